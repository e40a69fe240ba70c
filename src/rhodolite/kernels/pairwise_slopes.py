"""Medians of the slopes of all pairs of values, and limits of them."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
SURE = 1.96
"""Of an autocorrelation times the root of the number of values, where it is significant at 5 %."""
MANY = 60_000
"""Of series with more pairs than this only those are computed that matter."""
_ROWS = 48
"""Values that are held against all later ones at once, small enough to fit in cache."""
_SAMPLE = 10_000
"""Slopes by which those that matter are looked for."""


class Pairs:
    """All pairs of times of a series, or those within the same season."""

    def __init__(self, x: Array, seasons: Array | None) -> None:
        n = len(x)
        if seasons is None:
            self.count = n * (n - 1) // 2
            self._members = [np.arange(n)]
        else:
            self._members = [np.flatnonzero(seasons == season) for season in np.unique(seasons)]
            self.count = sum(m.size * (m.size - 1) // 2 for m in self._members)
        apart = [x[m[lag:]] - x[m[:-lag]] for m in self._members for lag in range(1, m.size)]
        self._per_time = 1 / np.concatenate(apart) if apart else np.empty(0)

    def slopes(self, rows: Array) -> Array:
        """Return the slope of every pair, shape (cells, pairs), for rows of shape (cells, n)."""
        out = np.empty((len(rows), self.count))
        start = 0
        for members in self._members:
            series = rows if members.size == rows.shape[1] else rows[:, members]
            for lag in range(1, members.size):
                end = start + members.size - lag
                np.subtract(series[:, lag:], series[:, :-lag], out=out[:, start:end])
                start = end
        out *= self._per_time
        return out


def _limits(count: Array, reach: Array) -> tuple[Array, Array]:
    """Return the places of the confidence limits among `count` slopes in order."""
    low = np.maximum(np.round((count - reach) / 2).astype(np.intp) - 1, 0)
    high = np.minimum(np.round((count + reach) / 2).astype(np.intp), count - 1)
    return low, np.maximum(high, 0)


def median_and_limits(slopes: Array, reach: Array) -> Array:
    """Return median and limits of the slopes of each row, shape (3, cells); sorts the slopes.

    Parameters
    ----------
    slopes : ndarray
        Slopes in ascending order.
    reach : ndarray
        Half width of the interval, as a number of slopes.
    """
    slopes.sort(axis=1)
    count = slopes.shape[1] - np.isnan(slopes).sum(axis=1)
    some = np.maximum(count, 1)
    places = [(some - 1) // 2, some // 2, *_limits(some, reach)]
    lower, upper, low, high = (
        np.take_along_axis(slopes, at[:, None], axis=1)[:, 0] for at in places
    )
    return np.stack([(lower + upper) / 2, low, high])


def of_long_series(x: Array, y: Array, reach: float) -> list[float]:
    """Return statistic, median slope and its limits of one long series without gaps.

    A sample of slopes brackets those that are wanted. Pairs whose slope lies below an edge of the
    bracket are those that change their order when a line of that slope is taken away, so whole
    numbers are compared in place of dividing, and only slopes within the bracket are computed.

    Parameters
    ----------
    x, y : ndarray of float64, shape (n,)
    reach : float
        How many places the limits lie apart.
    """
    n = len(x)
    count = n * (n - 1) // 2
    if count < _SAMPLE:
        pairs = Pairs(x, None)
        slopes = pairs.slopes(y[None])
        few = np.count_nonzero(slopes > 0) - np.count_nonzero(slopes < 0)
        return (
            [float(few), *median_and_limits(slopes, np.array([reach]))[:, 0]]
            if count
            else [np.nan] * 4
        )
    ranks: Array = np.unique(y, return_inverse=True)[1].astype(
        np.int16 if n < 1 << 15 else np.int32
    )
    low, high = (int(at[0]) for at in _limits(np.array([count]), np.array([reach])))
    x, y = x - x.mean(), y - y.mean()
    first, last = _bracket(x, y, low / count, high / count)
    score, before, i, j = _between(ranks, _order(y - first * x), _order(y - last * x))
    if not (before <= low and high < before + i.size):
        before = 0  # the sample was misleading, or many slopes are equal
        i, j = np.triu_indices(n, 1)
    slopes = np.sort((y[j] - y[i]) / (x[j] - x[i]))
    lower, upper, bottom, top = slopes[np.array([(count - 1) // 2, count // 2, low, high]) - before]
    return [float(score), float(lower + upper) / 2, float(bottom), float(top)]


def _between(ranks: Array, below: Array, above: Array) -> tuple[int, int, Array, Array]:
    """Return rising less falling pairs, how many lie below a bracket, and the pairs within it.

    Parameters
    ----------
    ranks, below, above : ndarray of int, shape (n,)
        Places of the values as they are, and after lines of the bracket's slopes are taken away.
    """
    n = len(ranks)
    score = before = 0
    firsts, seconds = [], []
    for start in range(0, n, _ROWS):
        stop = min(start + _ROWS, n)
        later = np.arange(start, n)[None, :] > np.arange(start, stop)[:, None]
        rows, rest = slice(start, stop), slice(start, n)
        score += int(np.count_nonzero((ranks[None, rest] > ranks[rows, None]) & later))
        score -= int(np.count_nonzero((ranks[None, rest] < ranks[rows, None]) & later))
        under = (below[None, rest] < below[rows, None]) & later
        before += int(np.count_nonzero(under))
        near = (above[None, rest] <= above[rows, None]) & later & ~under
        i = np.repeat(np.arange(stop - start), [np.count_nonzero(row) for row in near])
        firsts.append(i + start)
        seconds.append(np.flatnonzero(near) - i * (n - start) + start)
    return score, before, np.concatenate(firsts), np.concatenate(seconds)


def _bracket(x: Array, y: Array, low: float, high: float) -> tuple[float, float]:
    """Return slopes between which those at two shares of all pairs lie, as far as a sample can
    tell."""
    random = np.random.default_rng(0)
    i, j = random.integers(0, len(x), (2, _SAMPLE))
    sample = np.sort((y[j] - y[i])[i != j] / (x[j] - x[i])[i != j])
    slack = 2 * np.sqrt(sample.size)  # four standard deviations of a share of the sample
    ends = int(low * sample.size - slack), int(high * sample.size + slack)
    # Equal slopes, which rounded values give many of, should not lie on an edge.
    width = 1e-9 * (sample[-1] - sample[0])
    first, last = sample[max(ends[0], 0)], sample[min(ends[1], sample.size - 1)]
    return float(first - width), float(last + width)


def _order(values: Array) -> Array:
    """Return the place of each value among all, in their order, as small integers, which compare
    fast."""
    places = np.empty(values.size, np.int16 if values.size < 1 << 15 else np.int32)
    places[np.argsort(values, kind="stable")] = np.arange(values.size)
    return places
