"""Peaks over a threshold, and the generalised Pareto distribution that they have."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.thresholds import beyond

Array = NDArray[Any]


def find_peaks(values: Array, threshold: Array, apart: int, dtype: str = "f8") -> Array:
    """Return the largest value of each cluster over a threshold, and NaN at all other times.

    Parameters
    ----------
    values : ndarray of float64, shape (n, *cells)
        In the order of time; a missing value does not lie over the threshold.
    threshold : ndarray of float64, shape (*cells)
    apart : int
        Steps in a row not over the threshold that part clusters.
    dtype : {"f4", "f8"}
        Type in which values are compared with the threshold.

    Notes
    -----
    Runs declustering (Coles 2001, An Introduction to Statistical Modeling of Extreme Values,
    section 5.3.2). Of equal values the first is the peak.

    Examples
    --------
    >>> values = np.array([0.0, 5.0, 7.0, 0.0, 6.0, 0.0, 0.0, 4.0])
    >>> find_peaks(values, np.array(3.0), 2).tolist()
    [nan, nan, 7.0, nan, nan, nan, nan, 4.0]
    """
    flat = values.reshape(len(values), -1)
    limit = np.broadcast_to(threshold, values.shape[1:]).reshape(-1)
    peaks = np.full(flat.shape, np.nan)
    cells = np.arange(flat.shape[1])
    place = np.full(flat.shape[1], -1)
    since = np.full(flat.shape[1], apart)
    for step, row in enumerate(flat):
        over = beyond(row, limit, dtype, below=False)
        begins = over & (since >= apart)
        highest = np.where(place >= 0, flat[place, cells], -np.inf)
        goes_on = over & ~begins & (row > highest)
        # The peak of a cluster moves on where a larger value comes.
        peaks[place[goes_on], cells[goes_on]] = np.nan
        changed = begins | goes_on
        peaks[step, changed] = row[changed]
        place = np.where(changed, step, place)
        since = np.where(over, 0, since + 1)
    return peaks.reshape(values.shape)


def fit_pareto(first: Array, second: Array) -> tuple[Array, Array]:
    """Return scale and shape k of the distribution of excesses that has some L-moments.

    Parameters
    ----------
    first, second : ndarray of float64
        L-moments of excesses over the threshold.

    Notes
    -----
    Hosking and Wallis 1987, Technometrics 29, 339-349, section 3: k = l1 / l2 - 2. The tail is
    heavy where k is below 0.

    Examples
    --------
    >>> scale, k = fit_pareto(np.array(2.0), np.array(1.0))
    >>> float(scale), float(k)
    (2.0, 0.0)
    """
    with np.errstate(divide="ignore", invalid="ignore"):
        k = np.where(second > 0, first / second - 2, np.nan)
    return np.asarray((1 + k) * first), np.asarray(k)


def pareto_quantile(scale: Array, k: Array, above: Array | float) -> Array:
    """Return the excess that is exceeded with some probability.

    Parameters
    ----------
    scale, k : ndarray of float64
    above : ndarray or float
        Probabilities, which broadcast against the cells.

    Examples
    --------
    >>> float(pareto_quantile(np.array(2.0), np.array(0.0), np.exp(-1.0)))
    2.0
    """
    logs = np.log(above)
    safe = np.where(k == 0, 1.0, k)
    return np.asarray(scale * np.where(k == 0, -logs, -np.expm1(safe * logs) / safe))
