"""Tests and slopes that depend on the order of values alone: Mann-Kendall, and the median of
pairwise slopes."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.autocorrelation import autocorrelation
from rhodolite.kernels.available import can_compile
from rhodolite.kernels.distributions import normal_below, normal_quantile
from rhodolite.kernels.few_series import are_few, kendall_of_series, sen_of_series
from rhodolite.kernels.order_statistics import ascending

Array = NDArray[Any]
SURE = 1.96
"""Of an autocorrelation times the root of the number of values, where it is significant at 5 %."""
_AT_ONCE = 1 << 18
"""Pairs that are worked on together, small enough to fit in cache."""


def tie_correction(values: Array) -> Array:
    """Return the sum of t (t - 1) (2t + 5) over groups of t equal values.

    Parameters
    ----------
    values : ndarray of float, shape (n, *cells)

    Returns
    -------
    ndarray of float64, shape (*cells)

    Examples
    --------
    >>> float(tie_correction(np.array([1.0, 1.0, 2.0])))
    18.0
    """
    ordered = ascending(values)
    places = np.arange(ordered.shape[-1])
    first = np.ones(ordered.shape, bool)
    first[..., 1:] = ordered[..., 1:] != ordered[..., :-1]
    within = places - np.maximum.accumulate(np.where(first, places, 0), axis=-1)
    # The sum grows by 6 k (k + 2) with the k-th further value of a group.
    return np.asarray((6.0 * within * (within + 2)).sum(axis=-1))


def kendall_variance(values: Array) -> Array:
    """Return the variance of the Mann-Kendall statistic where there is no trend, corrected for
    ties.

    Parameters
    ----------
    values : ndarray, shape (n, *cells)

    Notes
    -----
    Kendall 1975, Rank Correlation Methods, section 4.9; values as for `tie_correction`.

    Examples
    --------
    >>> float(kendall_variance(np.arange(10.0)))
    125.0
    """
    n = (~np.isnan(values)).sum(axis=0).astype(np.float64)
    return np.asarray((n * (n - 1) * (2 * n + 5) - tie_correction(values)) / 18)


def normal_pvalue(score: Array, variance: Array) -> Array:
    """Return the two-sided p-value of a Mann-Kendall statistic, corrected for continuity.

    1 where the statistic is 0; NaN where the variance is.

    Parameters
    ----------
    score : ndarray
        Test statistic.
    variance : ndarray
        Variance of the statistic.

    Examples
    --------
    >>> round(float(normal_pvalue(np.array(20.0), np.array(125.0))), 3)
    0.089
    """
    size = np.maximum(np.abs(score) - 1, 0)
    z = np.divide(
        size,
        np.sqrt(np.maximum(variance, 0)),
        out=np.full(np.shape(size), np.nan),
        where=variance > 0,
    )
    return np.asarray(2 * normal_below(-z))


def pairwise_trend(
    x: Array, values: Array, seasons: Array | None, variance: Array, alpha: float
) -> tuple[Array, Array, Array, Array]:
    """Return the Mann-Kendall statistic, the median of pairwise slopes and its confidence limits.

    Parameters
    ----------
    x : ndarray of float64, shape (n,)
        Times, ascending.
    values : ndarray of float, shape (n, *cells)
        NaN marks missing values.
    seasons : ndarray of int, shape (n,), or None
        Only pairs of the same season count.
    variance : ndarray of float64, shape (*cells)
        Of the statistic, for the limits.
    alpha : float
        The limits hold 1 - alpha.

    Returns
    -------
    tuple of ndarray of float64, shape (*cells)
        Statistic, slope, lower and upper limit; NaN where there are no two values.

    Notes
    -----
    Sen 1968, Journal of the American Statistical Association 63, 1379-1389; for seasons Hirsch,
    Slack and Smith 1982, Water Resources Research 18, 107-121.
    """
    cells = values.shape[1:]
    rows = _by_cell(values)
    reach = normal_quantile(1 - alpha / 2) * np.sqrt(np.maximum(variance, 0)).ravel()
    season_of = np.zeros(len(x), np.int64) if seasons is None else seasons
    counts = np.unique(season_of, return_counts=True)[1]
    if are_few(len(rows), counts) or not can_compile():
        of_each = [
            sen_of_series(x.astype(np.float64), row, season_of, apart)
            for row, apart in zip(rows, reach, strict=True)
        ]
        out = np.array(of_each).reshape(-1, 4).T
        return tuple(row.reshape(cells) for row in out)  # type: ignore[return-value]
    from rhodolite.kernels.pairwise_slopes import sen_of_rows

    members = np.argsort(season_of, kind="stable")
    firsts = np.concatenate([[0], np.cumsum(counts)])
    out = np.empty((4, len(rows)))
    times, left = x.astype(np.float64), np.zeros(len(rows), bool)
    sen_of_rows(times, rows, firsts, members, reach, out, left)
    if left.any():
        from rhodolite.kernels.long_rows import sen_of_long_rows

        sen_of_long_rows(times, rows, np.flatnonzero(left), reach, out)
    return tuple(row.reshape(cells) for row in out)  # type: ignore[return-value]


def kendall_statistic(values: Array) -> Array:
    """Return the Mann-Kendall statistic alone: rising pairs less falling ones, shape (*cells).

    Parameters
    ----------
    values : ndarray, shape (n, *cells)

    Examples
    --------
    >>> float(kendall_statistic(np.array([1.0, 3.0, 2.0, 4.0])))
    4.0
    """
    rows = _by_cell(values)
    if are_few(len(rows), np.array([len(values)])) or not can_compile():
        each = [kendall_of_series(row) for row in rows]
        return np.array(each).reshape(values.shape[1:])
    from rhodolite.kernels.pairwise_slopes import kendall_of_rows

    score = np.empty(len(rows))
    kendall_of_rows(rows, score)
    return score.reshape(values.shape[1:])


def _by_cell(values: Array) -> Array:
    """Return values of shape (n, *cells) as (cells, n), each series in one piece."""
    return np.ascontiguousarray(values.reshape(len(values), -1).T, dtype=np.float64)


def seasonal_kendall(
    values: Array, seasons: Array, years: Array
) -> tuple[Array, Array]:
    """Return the statistic summed over seasons, and its variance with the covariance between
    seasons.

    Parameters
    ----------
    values : ndarray of float, shape (n, *cells)
    seasons, years : ndarray of int, shape (n,)
        No two steps share both.

    Notes
    -----
    Hirsch and Slack 1984, Water Resources Research 20, 727-732, equations 11 to 14.
    """
    present_seasons, present_years = np.unique(seasons), np.unique(years)
    cells = values.shape[1:]
    table = np.full((present_seasons.size, present_years.size, *cells), np.nan)
    table[
        np.searchsorted(present_seasons, seasons), np.searchsorted(present_years, years)
    ] = values
    by_cell = np.ascontiguousarray(
        np.moveaxis(table.reshape(*table.shape[:2], -1), -1, 0)
    )
    own = (
        np.stack([kendall_variance(rows) for rows in table])
        .reshape(present_seasons.size, -1)
        .T
    )
    out = np.empty((2, len(by_cell)))
    step = max(1, _AT_ONCE * 4 // (present_seasons.size * present_years.size**2))
    for start in range(0, len(by_cell), step):
        part = slice(start, start + step)
        out[:, part] = _summed_over_seasons(by_cell[part], own[part])
    return out[0].reshape(cells), out[1].reshape(cells)


def _summed_over_seasons(table: Array, own: Array) -> tuple[Array, Array]:
    """Return statistic and variance of a table of shape (cells, seasons, years), given the seasons'
    own variances."""
    n = table.shape[2]
    changes = [
        np.nan_to_num(np.sign(table[..., lag:] - table[..., :-lag]))
        for lag in range(1, n)
    ]
    signs = np.concatenate(changes, axis=2)
    sums = np.zeros(table.shape)
    for lag, change in enumerate(changes, start=1):
        sums[..., lag:] += change
        sums[..., :-lag] -= change
    count = (~np.isnan(table)).sum(axis=2).astype(np.float64)
    # A missing value gets the middle rank, since it is above and below nothing.
    ranks = (count[..., None] + 1 + sums) / 2
    products, cross = (part @ part.transpose(0, 2, 1) for part in (signs, ranks))
    between = (
        products + 4 * cross - n * (count + 1)[:, :, None] * (count + 1)[:, None, :]
    ) / 3
    among = np.einsum("cgg->c", between)
    return signs.sum(axis=(1, 2)), between.sum(axis=(1, 2)) - among + own.sum(axis=1)


def variance_growth(x: Array, values: Array, slope: Array) -> Array:
    """Return what the variance of the statistic is multiplied by where values are serially
    correlated.

    Parameters
    ----------
    x : ndarray
        Times, shape (n,).
    values : ndarray, shape (n, *cells)
    slope : ndarray
        Slope at each cell.

    Notes
    -----
    Hamed and Rao 1998, Journal of Hydrology 204, 182-196, equation 14, from the autocorrelation of
    the ranks of the values without their slope. Lags count up to the first that is not significant
    at 5 %: of the many beyond, one in twenty is significant by chance, and with all of them the
    test finds three times as many trends in white noise as it should. Missing steps are not values,
    and pairs with one are left out.
    """
    n = (~np.isnan(values)).sum(axis=0).astype(np.float64)
    rest = values - slope * x.reshape(-1, *(1,) * (values.ndim - 1))
    ranks = np.where(np.isnan(rest), np.nan, _sign_sums(rest))
    total = np.zeros(values.shape[1:])
    follows = np.ones(values.shape[1:], bool)
    for lag in range(1, int(n.max(initial=0)) - 2):
        r = autocorrelation(ranks, lag)
        follows &= (np.abs(r) > SURE / np.sqrt(np.maximum(n, 1))) & (lag < n - 2)
        if not follows.any():
            break
        total += (n - lag) * (n - lag - 1) * (n - lag - 2) * np.where(follows, r, 0.0)
    return np.asarray(
        1
        + np.divide(
            2 * total, n * (n - 1) * (n - 2), out=np.zeros(n.shape), where=n > 2
        )
    )


def prewhiten(x: Array, values: Array, slope: Array) -> Array:
    """Return values from which their dependence on the one before is taken; the first is missing.

    The autocorrelation is that of the values without their trend, so that a trend is not taken for
    persistence. Where it is not significant at 5 % nothing changes.

    Parameters
    ----------
    x : ndarray
        Times, shape (n,).
    values : ndarray, shape (n, *cells)
    slope : ndarray
        Slope at each cell.

    Notes
    -----
    Wang and Swail 2001, Journal of Climate 14, 2204-2221, appendix A, without the division by
    1 - r, which changes no rank.
    """
    rest = values - slope * x.reshape(-1, *(1,) * (values.ndim - 1))
    r = autocorrelation(rest)
    white = np.full(values.shape, np.nan)
    white[1:] = values[1:] - r * values[:-1]
    count = np.maximum((~np.isnan(values)).sum(axis=0), 1)
    return np.where(np.abs(r) > SURE / np.sqrt(count), white, values)


def _sign_sums(values: Array) -> Array:
    """Return, for each value, how many others are below less how many are above; 0 for missing
    ones."""
    sums = np.zeros(values.shape)
    for lag in range(1, len(values)):
        signs = np.nan_to_num(np.sign(values[lag:] - values[:-lag]))
        sums[lag:] += signs
        sums[:-lag] -= signs
    return sums
