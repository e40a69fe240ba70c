"""Weather-like noise: smooth in space, persistent in time, the same on every run."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
_PATTERNS = 24
_IN_CACHE = 1 << 15
"""Numbers that stay close to a processor while all patterns are added to them."""


def patterns(
    latitudes: Array,
    longitudes: Array,
    count: int,
    wavelength: float,
    random: np.random.Generator,
) -> Array:
    """Return smooth random patterns of unit variance, shape (count, latitudes, longitudes).

    Each is a sum of plane waves on the sphere's Cartesian coordinates, so that there is no seam at
    any longitude and no pinch at the poles.

    Parameters
    ----------
    wavelength : float
        Of the shortest waves, in degrees of a great circle.
    """
    phi, lam = np.radians(latitudes)[:, None], np.radians(longitudes)[None, :]
    points = np.stack(
        [np.cos(phi) * np.cos(lam), np.cos(phi) * np.sin(lam), np.sin(phi) + 0 * lam],
        axis=-1,
    )
    number = 2 * np.pi / np.radians(wavelength)
    fields = np.zeros((count, latitudes.size, longitudes.size))
    for pattern in fields:
        for _ in range(4):
            direction = random.standard_normal(3)
            direction *= number * random.uniform(0.3, 1.0) / np.linalg.norm(direction)
            phase = sum(points[..., at] * direction[at] for at in range(3))
            pattern += np.cos(phase + random.uniform(0, 2 * np.pi))
    return np.asarray(fields / np.sqrt(2.0))


def persistent(
    steps: int, count: int, persistence: float, random: np.random.Generator
) -> Array:
    """Return first-order autoregressive series of unit variance, shape (steps, count)."""
    from scipy.signal import lfilter

    shocks = random.standard_normal((steps, count)) * np.sqrt(1 - persistence**2)
    shocks[0] = random.standard_normal(count)
    return np.asarray(lfilter([1.0], [1.0, -persistence], shocks, axis=0))


class Weather:
    """Noise of unit variance, computed for as many steps at a time as are asked for.

    Parameters
    ----------
    latitudes, longitudes : ndarray
        In degrees.
    steps : int
        Length of the whole series.
    wavelength : float
        Of the shortest waves, in degrees of a great circle.
    persistence : float
        Correlation between one step and the next.
    seed : int
    """

    def __init__(
        self,
        latitudes: Array,
        longitudes: Array,
        steps: int,
        *,
        wavelength: float,
        persistence: float,
        seed: int,
    ) -> None:
        random = np.random.default_rng(seed)
        self._shapes = patterns(latitudes, longitudes, _PATTERNS, wavelength, random)
        self._series = persistent(steps, _PATTERNS, persistence, random) / np.sqrt(
            _PATTERNS
        )

    def __getitem__(self, steps: slice) -> Array:
        """Return the noise of some steps, shape (steps, latitudes, longitudes), float64."""
        series = self._series[steps]
        total = np.zeros((len(series), *self._shapes.shape[1:]))
        few = max(1, _IN_CACHE // self._shapes[0].size)
        product = np.empty((few, *self._shapes.shape[1:]))
        for first in range(0, len(series), few):
            some = total[first : first + few]
            # Added one by one: a matrix product may round differently with the threads that are
            # free.
            for along, shape in zip(
                series[first : first + few].T, self._shapes, strict=True
            ):
                some += np.multiply(
                    along[:, None, None], shape, out=product[: len(some)]
                )
        return total


def round_to_bits(values: Array, bits: int) -> Array:
    """Return float32 values with so many bits behind the leading one, which compress well."""
    mantissa, exponent = np.frexp(values)
    return np.ldexp(
        np.round(mantissa * 2.0 ** (bits + 1)) / 2.0 ** (bits + 1), exponent
    ).astype(np.float32)
