"""Percentiles of calendar days from the years of a base, and which days lie beyond them.

Within the base a year is held against the other years alone, since a value that helps to set its
own threshold exceeds it too rarely.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.available import can_compile
from rhodolite.kernels.base_days import BaseDays
from rhodolite.kernels.moving_quantiles import changes_of_groups, find_moving_quantiles
from rhodolite.kernels.order_statistics import ascending
from rhodolite.kernels.series_order import order_series

Array = NDArray[Any]


def thresholds_of_days(
    values: Array, days: BaseDays, share: float, needed: float
) -> Array:
    """Return the percentile of each calendar day, over all years of the base.

    Parameters
    ----------
    values : ndarray of float64, shape (n, cells)
        Of days, NaN where missing.
    days : BaseDays
    share : float
        From 0 to 1.
    needed : float
        Share of the days around a calendar day that have to be there.

    Returns
    -------
    ndarray of float64, shape (phases, cells)

    Examples
    --------
    >>> from rhodolite.kernels.base_days import choose_base_days
    >>> days = choose_base_days(np.zeros(5, int), np.arange(5), 1, 1)
    >>> values = np.array([[1.0], [2.0], [3.0], [4.0], [5.0]])
    >>> thresholds_of_days(values, days, 0.5, 0.8).tolist()
    [[3.0]]
    """
    if can_compile():
        changes = changes_of_groups(days.members_of_phases())
        thresholds, sizes = find_moving_quantiles(values, changes, share, unbiased=True)
        thresholds[sizes < needed * np.diff(days.starts)[:, None]] = np.nan
        return thresholds
    phases = days.starts.size - 1
    thresholds = np.full((phases, values.shape[1]), np.nan)
    for phase, around in enumerate(days.members_of_phases()):
        thresholds[phase] = _percentile_of(values[around].T, share, needed)
    return thresholds


def exceedance_of_rows(
    rows: Array, days: BaseDays, share: float, below: bool, needed: float
) -> Array:
    """Return which days lie beyond the percentile of their calendar day, from 0 to 1.

    Within the base the threshold of a day is that of the other years, one of which takes the place
    of the year of the day; the result is the share of these choices with which it lies beyond.

    Parameters
    ----------
    rows : ndarray of float64, shape (cells, n)
        Series of days, NaN where missing.
    days : BaseDays
    share : float
        From 0 to 1.
    below : bool
        Whether days below the percentile count, and not those above it.
    needed : float
        Share of the days around a calendar day that have to be there.

    Returns
    -------
    ndarray of float64, shape (cells, n)
        NaN where the day or its percentile is missing.

    Notes
    -----
    Zhang, Hegerl, Zwiers and Kenyon 2005, Journal of Climate 18, 1641-1651, section 4.

    Examples
    --------
    >>> from rhodolite.kernels.base_days import choose_base_days
    >>> days = choose_base_days(np.zeros(4, int), np.array([0, 1, 2, -1]), 1, 1)
    >>> exceedance_of_rows(np.array([[1.0, 2.0, 3.0, 9.0]]), days, 0.5, False, 0.8).tolist()
    [[0.0, 0.5, 1.0, 1.0]]
    """
    if can_compile():
        from rhodolite.kernels.bootstrapped_days import find_exceedance

        changes = changes_of_groups(days.members_of_phases())
        ordered = order_series(rows)
        return find_exceedance(rows, *ordered, days, changes, share, below, needed)
    result = np.full(rows.shape, np.nan)
    for phase, around in enumerate(days.members_of_phases()):
        plain = _percentile_of(rows[:, around], share, needed)
        for day in np.flatnonzero(days.phase == phase):
            value = rows[:, day]
            limits = [plain]
            if days.year[day] >= 0 and days.years > 1:
                limits = _limits_of_choices(rows, days, around, days.year[day], share)
            beyond = [value < limit if below else value > limit for limit in limits]
            known = ~np.isnan(value) & ~np.isnan(plain)
            total = np.asarray(np.sum(beyond, axis=0, dtype=np.float64))
            result[known, day] = total[known] / len(limits)
    return result


def _limits_of_choices(
    rows: Array, days: BaseDays, around: Array, own: int, share: float
) -> list[Array]:
    """Return the percentiles without a year, each other year once in its place."""
    owners = days.year[around]
    rest = around[owners != own]
    return [
        median_unbiased(
            _sorted(rows[:, np.append(rest, around[owners == other])]), share
        )
        for other in range(days.years)
        if other != own
    ]


def _percentile_of(values: Array, share: float, needed: float) -> Array:
    """Return the percentile of each row, NaN where too few of its values are there."""
    count = (~np.isnan(values)).sum(axis=1)
    enough = (count > 0) & (count >= needed * values.shape[1])
    return np.where(enough, median_unbiased(_sorted(values), share), np.nan)


def _sorted(values: Array) -> Array:
    """Return rows as columns in ascending order, NaN last."""
    return np.moveaxis(ascending(values.T), -1, 0)


def median_unbiased(ordered: Array, share: float) -> Array:
    """Return a quantile of values in ascending order along the first axis, NaN last.

    Parameters
    ----------
    ordered : ndarray of float64, shape (n, *cells)
    share : float
        From 0 to 1.

    Notes
    -----
    Definition 8 of Hyndman and Fan 1996 (The American Statistician 50), as Zhang and others 2005
    have it.

    Examples
    --------
    >>> float(median_unbiased(np.array([1.0, 2.0, 3.0, 4.0]), 0.5))
    2.5
    """
    if not len(ordered):
        return np.full(ordered.shape[1:], np.nan)
    count = (~np.isnan(ordered)).sum(axis=0)
    place = count * share + (share + 1.0) / 3.0
    place = np.minimum(np.maximum(place, 1.0), np.maximum(count, 1))
    below = np.floor(place).astype(np.intp)
    above = np.minimum(below, np.maximum(count, 1) - 1)
    low, high = (
        np.take_along_axis(ordered, at[None], axis=0)[0] for at in (below - 1, above)
    )
    part = place - below
    return np.asarray(np.where(part == 0, low, low + part * (high - low)))
