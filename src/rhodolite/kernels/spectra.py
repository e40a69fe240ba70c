"""How variance is spread over frequencies, and the harmonics of the year."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.distributions import gamma_quantile
from rhodolite.kernels.moments import ROUNDING, equal_values

Array = NDArray[Any]
_LEAST_SHARE = 1e-3
"""Of the largest eigenvalue of normal equations, that the smallest has to have: with half a year of
days two harmonics pass, with a quarter one. Errors of values are multiplied by up to 30 or so."""


class Spectrum(NamedTuple):
    """A one-sided spectral density.

    Attributes
    ----------
    frequency : ndarray of float64, shape (k,)
        Of the unit of the rate of sampling; 0 is left out.
    power : ndarray of float64, shape (k, *cells)
        Whose sum times the distance of frequencies is the variance.
    freedom : float
        Degrees of freedom of each value.
    """

    frequency: Array
    power: Array
    freedom: float


def periodogram(values: Array, rate: float) -> Spectrum:
    """Return the periodogram of series less their mean.

    Parameters
    ----------
    values : ndarray of float64, shape (n, *cells)
    rate : float
        Values for a unit of time.

    Examples
    --------
    >>> wave = np.sin(2 * np.pi * np.arange(16) / 4)
    >>> spectrum = periodogram(wave, 4.0)
    >>> float(spectrum.frequency[spectrum.power.argmax()]), spectrum.freedom
    (1.0, 2.0)
    """
    power = _density(values, np.ones(len(values)), rate)
    return Spectrum(_frequencies(len(values), rate), power, 2.0)


def welch(values: Array, rate: float, segment: int) -> Spectrum:
    """Return the mean of the periodograms of segments that overlap by half, under a Hann window.

    Parameters
    ----------
    values : ndarray of float64, shape (n, *cells)
    rate : float
    segment : int
        Values in a segment.

    Notes
    -----
    Welch 1967, IEEE Transactions on Audio and Electroacoustics 15, 70-73; degrees of freedom by its
    equation 14, with the correlation of neighbouring segments that the window gives.

    Examples
    --------
    >>> wave = np.sin(2 * np.pi * np.arange(64) / 4)
    >>> spectrum = welch(wave, 4.0, 16)
    >>> float(spectrum.frequency[spectrum.power.argmax()])
    1.0
    """
    overlap = segment // 2
    shift = segment - overlap
    count = (len(values) - overlap) // shift
    angles = 2 * np.pi * np.arange(segment) / segment
    window = 0.5 - 0.5 * np.cos(angles)
    power = sum(
        _density(values[first : first + segment], window, rate)
        for first in range(0, count * shift, shift)
    )
    together = (window[shift:] * window[:-shift]).sum() / (window**2).sum()
    inflation = 1 + 2 * together**2 * (1 - 1 / count)
    freedom = float(2 * count / inflation)
    return Spectrum(_frequencies(segment, rate), np.asarray(power / count), freedom)


def multitaper(values: Array, rate: float, tapers: int) -> Spectrum:
    """Return the mean of the spectra under orthogonal tapers.

    Parameters
    ----------
    values : ndarray of float64, shape (n, *cells)
    rate : float
    tapers : int
        How many; the bandwidth is (tapers + 1) / 2 frequencies.

    Notes
    -----
    Thomson 1982, Proceedings of the IEEE 70, 1055-1096, with equal weights.

    Examples
    --------
    >>> wave = np.sin(2 * np.pi * np.arange(64) / 4)
    >>> spectrum = multitaper(wave, 4.0, 3)
    >>> bool(abs(spectrum.frequency[spectrum.power.argmax()] - 1.0) < 0.2)
    True
    """
    # Takes a second to import, which only this needs.
    from scipy.signal.windows import dpss

    windows = dpss(len(values), (tapers + 1) / 2, tapers)
    power = sum(_density(values, window, rate) for window in windows)
    numbers = _frequencies(len(values), rate)
    return Spectrum(numbers, np.asarray(power / tapers), 2.0 * tapers)


def _frequencies(length: int, rate: float) -> Array:
    return np.fft.rfftfreq(length, 1 / rate)[1:]


def _density(values: Array, window: Array, rate: float) -> Array:
    """Return the one-sided spectral density of series less their mean under a window, without that
    of frequency 0."""
    departures = _centre(values)
    departures *= window.reshape(-1, *(1,) * (values.ndim - 1))
    transformed = np.fft.rfft(departures, axis=0)[1:]
    power = np.square(transformed.real)
    power += np.square(transformed.imag)
    # Frequencies below zero have as much; that of every second value is its own mirror image.
    folded = slice(None, -1) if len(values) % 2 == 0 else slice(None)
    power[folded] *= 2
    power /= rate * (window**2).sum()
    return power


def _centre(values: Array) -> Array:
    """Return departures from the mean, which are 0 where all values are equal."""
    departures: Array = values - values[0]
    departures -= departures.mean(axis=0)
    return departures


def red_noise(values: Array, spectrum: Spectrum, rate: float) -> Array:
    """Return the spectrum that noise with the variance and the lag-1 autocorrelation of series has.

    Parameters
    ----------
    values : ndarray of float64, shape (n, *cells)
    spectrum : Spectrum
        With whose sum it is brought into line.
    rate : float

    Returns
    -------
    ndarray of float64, shape (k, *cells)

    Notes
    -----
    Gilman, Fuglister and Mitchell 1963, Journal of the Atmospheric Sciences 20, 182-184.
    """
    departures = _centre(values)
    square = (departures**2).sum(axis=0)
    product = (departures[1:] * departures[:-1]).sum(axis=0)
    follows = np.divide(product, square, out=np.zeros(square.shape), where=square > 0)
    follows = np.clip(follows, 0.0, 0.999)
    shape = (-1, *(1,) * (values.ndim - 1))
    cosine = np.cos(2 * np.pi * spectrum.frequency / rate).reshape(shape)
    noise = (1 - follows**2) / (1 + follows**2 - 2 * follows * cosine)
    total = spectrum.power.sum(axis=0) / noise.sum(axis=0)
    return np.asarray(noise * total)


def limit_factor(freedom: float, share: float) -> float:
    """Return what a background is multiplied by for the level below which a share of noise stays.

    Examples
    --------
    >>> round(limit_factor(2.0, 0.95), 3)
    2.996
    """
    # Half of a chi-squared number has a gamma distribution.
    return float(2 * gamma_quantile(freedom / 2, share) / freedom)


class Harmonics(NamedTuple):
    """The harmonics of the year, each of shape (k, *cells): amplitude, share of the variance that
    it explains, and when in the year it is largest, from 0 to 1/h."""

    amplitude: Array
    share: Array
    place: Array


def can_tell_apart(fractions: Array, count: int) -> bool:
    """Return whether values at some times of the year tell its mean and harmonics apart.

    Parameters
    ----------
    fractions : ndarray of float64, shape (n,)
        When in the year each value is, from 0 to 1.
    count : int
        How many harmonics.

    Examples
    --------
    >>> can_tell_apart(np.arange(12) / 12, 2), can_tell_apart(np.array([0.0, 0.5] * 6), 2)
    (True, False)
    """
    design = _design(fractions, count)
    return bool(_is_well_posed((design @ design.T)[None])[0])


def fit_harmonics(values: Array, fractions: Array, count: int) -> Harmonics:
    """Return the harmonics of the year by least squares.

    Parameters
    ----------
    values : ndarray of float64, shape (n, *cells)
        NaN where missing.
    fractions : ndarray of float64, shape (n,)
        When in the year each value is, from 0 to 1.
    count : int
        How many.

    Notes
    -----
    a cos(2 pi h (t - t0)) for h from 1, with a mean; NaN where the values are fewer than these
    numbers, or do not tell them apart. What is no more than rounding has no place in the year.

    Examples
    --------
    >>> times = np.arange(12) / 12
    >>> parts = fit_harmonics(3 * np.cos(2 * np.pi * (times - 0.25)), times, 1)
    >>> float(parts.amplitude[0].round(9)), float(parts.place[0].round(9))
    (3.0, 0.25)
    """
    design = _design(fractions, count)
    flat = values.reshape(len(values), -1)
    present = ~np.isnan(flat)
    departures = _departures(flat, present)
    cosine, sine = _solve(design, departures, present)
    angles_of = design[1 : count + 1, :, None], design[count + 1 :, :, None]
    parts = cosine[:, None] * angles_of[0] + sine[:, None] * angles_of[1]
    numbers = np.arange(1, count + 1)[:, None]
    amplitude = np.hypot(cosine, sine)
    place = np.arctan2(sine, cosine) / (2 * np.pi * numbers) % (1 / numbers)
    largest = np.where(present, np.abs(flat), 0.0).max(axis=0, initial=0.0)
    nothing = amplitude <= ROUNDING * largest
    results = (
        np.where(nothing, 0.0, amplitude),
        _explained(parts, departures, present),
        np.where(nothing, np.nan, place),
    )
    shape = (count, *values.shape[1:])
    return Harmonics(*(result.reshape(shape) for result in results))


def _design(fractions: Array, count: int) -> Array:
    """Return a row of ones, those of the cosines, and those of the sines."""
    angles = 2 * np.pi * np.arange(1, count + 1)[:, None] * fractions
    ones = np.ones((1, fractions.size))
    return np.concatenate([ones, np.cos(angles), np.sin(angles)])


def _departures(flat: Array, present: Array) -> Array:
    """Return the departures from the mean of each cell, 0 where missing, and where all values are
    the same but for rounding."""
    low = np.where(present, flat, np.inf).min(axis=0, initial=np.inf)
    high = np.where(present, flat, -np.inf).max(axis=0, initial=-np.inf)
    known = present.any(axis=0)
    low, high = np.where(known, low, 0.0), np.where(known, high, 0.0)
    # From a value that is there, so that a large mean costs no digits.
    from_low = np.where(present, flat - low, 0.0)
    mean = from_low.sum(axis=0) / np.maximum(present.sum(axis=0), 1)
    varies = present & ~equal_values(low, high)
    return np.where(varies, from_low - mean, 0.0)


def _is_well_posed(matrices: Array) -> Array:
    """Return which normal equations, shape (cells, k, k), tell their unknowns apart."""
    sizes = np.linalg.eigvalsh(matrices)
    return np.asarray(sizes[:, 0] > _LEAST_SHARE * sizes[:, -1])


def _solve(design: Array, departures: Array, present: Array) -> tuple[Array, Array]:
    """Return the factors of cosines and of sines, shape (count, cells)."""
    matrices = np.einsum("in,jn,nc->cij", design, design, present.astype(np.float64))
    enough = present.sum(axis=0) > len(design)
    enough &= _is_well_posed(matrices)
    matrices[~enough] = np.eye(len(design))
    sides = (design @ departures).T
    solved = np.linalg.solve(matrices, sides[..., None])[..., 0].T
    solved = np.where(enough, solved, np.nan)
    count = len(design) // 2
    return solved[1 : count + 1], solved[count + 1 :]


def _explained(parts: Array, filled: Array, present: Array) -> Array:
    """Return the share of the variance of values that each of some parts has."""
    count = np.maximum(present.sum(axis=0), 1)
    mean = filled.sum(axis=0) / count
    total = np.where(present, (filled - mean) ** 2, 0.0).sum(axis=0)
    inside = np.where(present, parts, 0.0)
    means = inside.sum(axis=1) / count
    squares = np.where(present, (parts - means[:, None]) ** 2, 0.0).sum(axis=1)
    result = np.full(squares.shape, np.nan)
    np.divide(squares, total, out=result, where=total > 0)
    return result
