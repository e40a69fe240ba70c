"""Medians of pairwise slopes of few series, by NumPy: what is compiled for many takes seconds to
compile once, and gives the same numbers to the last bit."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
_MOST_SLOPES = 1 << 23
"""Slopes of all series of a run together, which take about half a second."""


class _Few:
    """Counts slopes, since a map comes in blocks of few series each."""

    slopes = 0


def are_few(cells: int, counts: Array) -> bool:
    """Return whether series have few slopes, together with all that were asked about before.

    Parameters
    ----------
    cells : int
    counts : ndarray of int, shape (seasons,)
        Steps of each season.
    """
    slopes = int((counts.astype(np.int64) * (counts - 1) // 2).sum())
    _Few.slopes += slopes * cells
    return _Few.slopes <= _MOST_SLOPES


def sen_of_series(
    x: Array, series: Array, seasons: Array, reach: float
) -> tuple[float, ...]:
    """Return statistic, median slope and its lower and upper limit of a series.

    Parameters
    ----------
    x : ndarray of float64, shape (n,)
        Times, ascending.
    series : ndarray of float64, shape (n,)
        NaN marks missing values.
    seasons : ndarray of int, shape (n,)
        Only pairs of the same season count.
    reach : float
        By how many places the limits lie apart.

    Returns
    -------
    tuple of float
        NaN where there are no two values.

    Notes
    -----
    Sen 1968, Journal of the American Statistical Association 63, 1379-1389; places are rounded half
    to even.
    """
    there = ~np.isnan(series)
    score, slopes = 0, []
    for season in np.unique(seasons[there]):
        members = there & (seasons == season)
        apart, change = (_differences(part[members]) for part in (x, series))
        score += int(np.sign(change).sum())
        slopes.append(change / apart)
    every = np.concatenate(slopes) if slopes else np.empty(0)
    count = every.size
    if not count:
        return (np.nan,) * 4
    low = max(int(np.rint((count - reach) / 2)) - 1, 0)
    high = max(min(int(np.rint((count + reach) / 2)), count - 1), 0)
    places = [low, (count - 1) // 2, count // 2, high]
    every.partition(sorted(set(places)))
    lower, first, second, upper = every[places]
    return float(score), float((first + second) / 2), float(lower), float(upper)


def kendall_of_series(series: Array) -> float:
    """Return rising less falling pairs of a series of shape (n,), in which NaN marks what is
    missing."""
    return float(np.sign(_differences(series[~np.isnan(series)])).sum())


def _differences(values: Array) -> Array:
    """Return later less earlier values of all pairs, shape (n (n - 1) / 2,)."""
    earlier, later = np.triu_indices(values.size, 1)
    return np.asarray(values[later] - values[earlier])
