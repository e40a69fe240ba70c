"""The generalised extreme value distribution by maximum likelihood, with a location that may change
along time."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.moments import sum_rows

Array = NDArray[Any]
Loss = Callable[[Array, Array], Array]
"""Of values of shape (n, m) and parameters of shape (p, m)."""
_STEPS = 60
_SETTLED = 1e-9
_APART = 1e-4
"""Of parameters of the order of 1, between which differences stand for derivatives."""
_GUMBEL = 1e-6
"""Shapes nearer to 0 are those of the Gumbel distribution."""
_LEAST, _MOST = -0.99, 2.0
"""Shapes in which the likelihood has a maximum (Smith 1985, Biometrika 72)."""
_OTHER_STARTS = (0.0, 0.15, -0.15)
_SHARES = (1.0, 0.5, 0.2, 0.05, 0.01, 0.001)


class Likely(NamedTuple):
    """Parameters at each cell: location, its change with the covariate, scale, and shape (heavy
    tails above 0); and the negative logarithm of the likelihood."""

    location: Array
    slope: Array
    scale: Array
    shape: Array
    loss: Array


def fit_likelihood(
    values: Array,
    location: Array,
    scale: Array,
    shape: Array,
    covariate: Array | None = None,
    *,
    thorough: bool = True,
) -> Likely:
    """Return the most likely distribution at each cell.

    Parameters
    ----------
    values : ndarray of float64, shape (n, m)
        NaN where missing.
    location, scale, shape : ndarray of float64, shape (m,)
        Where the search begins; NaN at cells that are left out.
    covariate : ndarray of float64, shape (n,), optional
        Of the order of 1; the location changes in a line with it.
    thorough : bool
        Whether the search begins at other places too, and not only where it is known to be near.

    Notes
    -----
    Coles 2001, An Introduction to Statistical Modeling of Extreme Values, sections 3.3 and 6.1; by
    Newton's method with differences in place of derivatives.

    Examples
    --------
    >>> values = np.array([[1.0], [2.0], [2.5], [3.0], [5.0], [4.0], [2.2], [1.5]])
    >>> start = np.array([2.0]), np.array([1.0]), np.array([0.1])
    >>> found = fit_likelihood(values, *start)
    >>> bool(found.loss[0] < loss_of(values, *start))
    True
    """
    known = np.isfinite(shape) & np.isfinite(scale) & (scale > 0)
    centre, unit = np.where(known, location, 0.0), np.where(known, scale, 1.0)
    standard = (values - centre) / unit
    count = 3 if covariate is None else 4
    parameters = np.zeros((count, values.shape[1]))
    parameters[2] = np.clip(np.where(known, shape, 0.0), -0.5, 0.5)
    work = partial(_loss, covariate=covariate)
    parameters, loss = _minimise(work, standard, parameters)
    # At the edge of what is possible the search ends early; from these shapes it does not.
    for other in _OTHER_STARTS if thorough else ():
        start = np.zeros_like(parameters)
        start[2] = other
        again, again_loss = _minimise(work, standard, start)
        better = again_loss < loss
        parameters = np.where(better, again, parameters)
        loss = np.where(better, again_loss, loss)
    place, log_scale, bent = parameters[:3]
    slope = parameters[3] if covariate is not None else np.zeros_like(place)
    present = (~np.isnan(values)).sum(axis=0)
    results = (
        centre + unit * place,
        unit * slope,
        unit * np.exp(log_scale),
        bent,
        loss + present * np.log(unit),
    )
    return Likely(*(np.where(known, part, np.nan) for part in results))


def loss_of(values: Array, location: Array, scale: Array, shape: Array) -> float:
    """Return the negative logarithm of the likelihood of all values of one cell."""
    parameters = np.array([location, np.log(scale), shape]).reshape(3, -1)
    return float(_loss(values, parameters, None)[0])


def _loss(values: Array, parameters: Array, covariate: Array | None) -> Array:
    """Return the negative logarithm of the likelihood of each cell; infinite where a value is
    impossible."""
    location, log_scale, shape = parameters[0], parameters[1], parameters[2]
    departures = values - location
    if covariate is not None:
        departures = departures - covariate[:, None] * parameters[3]
    z = departures * np.exp(-log_scale)
    near = np.abs(shape) < _GUMBEL
    bend = np.where(near, 1.0, shape)
    with np.errstate(all="ignore"):
        inner = 1 + bend * z
        logs = np.log(np.maximum(inner, 1e-300)) / bend
        reduced = np.where(near, z, logs)
        each = log_scale + np.where(near, 1.0, 1 + bend) * reduced + np.exp(-reduced)
    impossible = ~near & (inner <= 0)
    each = np.where(impossible, np.inf, each)
    total = sum_rows(np.where(np.isnan(values), 0.0, each))
    outside = (shape < _LEAST) | (shape > _MOST)
    return np.where(outside | np.isnan(total), np.inf, total)


def fit_pareto_likelihood(
    excess: Array, scale: Array, shape: Array
) -> tuple[Array, Array]:
    """Return scale and shape (heavy tails above 0) of the most likely generalised Pareto
    distribution at each cell.

    Parameters
    ----------
    excess : ndarray of float64, shape (n, m)
        Over the threshold; NaN where missing.
    scale, shape : ndarray of float64, shape (m,)
        Where the search begins; NaN at cells that are left out.

    Notes
    -----
    Coles 2001, section 4.3.2.

    Examples
    --------
    >>> excess = np.array([[1.0], [2.0], [0.5], [4.0], [0.2], [1.5]])
    >>> scale, shape = fit_pareto_likelihood(excess, np.array([1.5]), np.array([0.0]))
    >>> bool(0 < scale[0] < 3)
    True
    """
    known = np.isfinite(shape) & np.isfinite(scale) & (scale > 0)
    unit = np.where(known, scale, 1.0)
    standard = excess / unit
    best = np.zeros((2, excess.shape[1]))
    least = np.full(excess.shape[1], np.inf)
    near = np.clip(np.where(known, shape, 0.0), -0.4, 0.5)
    for bent in (near, np.zeros_like(near), np.full_like(near, 0.2)):
        start = np.array([np.zeros_like(near), bent])
        parameters, loss = _minimise(_pareto_loss, standard, start)
        best = np.where(loss < least, parameters, best)
        least = np.minimum(loss, least)
    most_likely = unit * np.exp(best[0])
    return np.where(known, most_likely, np.nan), np.where(known, best[1], np.nan)


def _pareto_loss(values: Array, parameters: Array) -> Array:
    """Return the negative logarithm of the likelihood of excesses of each cell."""
    log_scale, shape = parameters
    z = values * np.exp(-log_scale)
    near = np.abs(shape) < _GUMBEL
    bend = np.where(near, 1.0, shape)
    inner = 1 + bend * z
    logs = np.log(np.maximum(inner, 1e-300)) / bend
    each = log_scale + np.where(near, z, (1 + bend) * logs)
    each = np.where(~near & (inner <= 0), np.inf, each)
    total = sum_rows(np.where(np.isnan(values), 0.0, each))
    outside = (shape < _LEAST) | (shape > _MOST)
    return np.where(outside | np.isnan(total), np.inf, total)


def _minimise(work: Loss, values: Array, start: Array) -> tuple[Array, Array]:
    """Return the parameters of the smallest loss, and this, cell by cell."""
    parameters = start.copy()
    loss = work(values, parameters)
    moving = np.flatnonzero(np.isfinite(loss))
    for _ in range(_STEPS):
        if not moving.size:
            break
        part, now = values[:, moving], parameters[:, moving]
        direction = _direction(work, part, now)
        best, least = now, loss[moving]
        for share in _SHARES:
            tried = now + share * direction
            tried_loss = work(part, tried)
            better = tried_loss < least
            best = np.where(better, tried, best)
            least = np.where(better, tried_loss, least)
        gained = loss[moving] - least
        parameters[:, moving], loss[moving] = best, least
        moving = moving[gained > _SETTLED * np.maximum(np.abs(least), 1.0)]
    return parameters, loss


def _direction(work: Loss, values: Array, parameters: Array) -> Array:
    """Return the step of Newton's method, or down the slope where the loss is not curved upward."""
    count, cells = parameters.shape
    middle = work(values, parameters)
    shifts = np.eye(count) * _APART
    sides = [
        [work(values, parameters + sign * shift[:, None]) for sign in (1, -1)]
        for shift in shifts
    ]
    slope = np.array([(up - down) / (2 * _APART) for up, down in sides])
    curve = np.empty((count, count, cells))
    for i, (up, down) in enumerate(sides):
        curve[i, i] = (up - 2 * middle + down) / _APART**2
    for i in range(count):
        for j in range(i):
            mixed = np.zeros(cells)
            for a, b in ((1, 1), (1, -1), (-1, 1), (-1, -1)):
                corner = (a * shifts[i] + b * shifts[j])[:, None]
                with np.errstate(invalid="ignore"):  # of infinite ones
                    mixed += a * b * work(values, parameters + corner)
            curve[i, j] = curve[j, i] = mixed / (4 * _APART**2)
    usable = np.isfinite(curve).all(axis=(0, 1)) & np.isfinite(slope).all(axis=0)
    matrices = np.where(usable, curve, np.eye(count)[..., None]).transpose(2, 0, 1)
    values_of, vectors = np.linalg.eigh(matrices)
    # A direction that is not curved upward is gone down by its slope.
    sizes = np.maximum(np.abs(values_of), 1e-6)
    slopes = np.where(usable, slope, 0.0).T
    along = np.einsum("cij,ci->cj", vectors, slopes) / sizes
    steps = -np.einsum("cij,cj->ci", vectors, along)
    return np.asarray(np.clip(steps, -2.0, 2.0).T)
