"""What indicators make of days: counts, extremes, totals, spells, percentiles and dates.

Each function returns an array of shape (periods, *cells).
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from rhodolite.arrays import Array
from rhodolite.kernels.daily_percentiles import (
    exceedance_of_rows,
    median_unbiased,
    thresholds_of_days,
)
from rhodolite.kernels.drought_indices import running_sum
from rhodolite.kernels.grouped_statistics import Highest, Lowest, Mean, Total
from rhodolite.kernels.order_statistics import ascending
from rhodolite.kernels.series_order import turn
from rhodolite.kernels.spells import (
    count_so_far,
    first_day,
    first_of_spell,
    last_day,
    lengths_at_ends,
    lie_in_spells,
)
from rhodolite.operations.baseline.base_period import BASE_COVERAGE
from rhodolite.operations.indicators.days import Days

_GROWING = 6
"""Days in a row that begin and end a growing season."""
_WARM_SPELL = 6
_WAVE = 3
"""Days in a row that make a heat wave (Perkins and Alexander 2013)."""
_AROUND = 5
"""Days around a calendar day that set its percentile (Zhang and others 2005)."""
_AROUND_WAVE = 15
_ONSET_DAYS, _DRY_SPELL, _WATCHED = 3, 7, 30
"""Of the onset of rains (Sivakumar 1988)."""


def count_days(days: Days) -> Array:
    """Return the number of days that fulfil the condition."""
    return days.each(_count, days.flags)


def highest(days: Days) -> Array:
    return days.statistic(Highest(), days.values, "high")


def lowest(days: Days) -> Array:
    return days.statistic(Lowest(), days.values, "low")


def mean(days: Days) -> Array:
    return days.statistic(Mean(), days.values)


def total_where(days: Days) -> Array:
    """Return the total of the days that fulfil the condition."""
    return days.statistic(Total(), np.where(days.flags, days.values, 0.0))


def mean_where(days: Days) -> Array:
    """Return the mean of the days that fulfil the condition; missing where none does."""
    return days.statistic(Mean(), np.where(days.flags, days.values, np.nan))


def highest_total(days: Days, length: int) -> Array:
    """Return the largest total of some days in a row, the last of which lies in the period."""
    return days.statistic(Highest(), running_sum(days.values, length), "high")


def excess(days: Days) -> Array:
    """Return by how much days lie beyond the threshold, summed up."""
    over = days.values - days.threshold
    over = -over if days.side == "below" else over
    # A missing day stays missing, and is no day without excess.
    return days.statistic(Total(), np.maximum(over, 0.0))


def longest_spell(days: Days) -> Array:
    """Return the length of the longest spell that ends in the period, with its days before it.

    A period that lies within a spell has none of its own, and is missing.
    """
    flags = days.flags
    ends = lengths_at_ends(flags)
    longest = days.each(lambda part: part.max(axis=0, initial=0), ends)
    within = days.each(lambda part: np.asarray(part.all(axis=0)), flags)
    return np.where(within & (longest == 0), np.nan, longest)


def days_in_spells(days: Days, share: float) -> Array:
    """Return the number of days of at least six in a row, all within the period, beyond the
    percentile of their calendar days."""
    flags = _beyond_percentile(days, share, _AROUND)
    return days.each(lambda part: _count(lie_in_spells(part, _WARM_SPELL)), flags)


def share_beyond(days: Days, share: float) -> Array:
    """Return the percentage of days beyond the percentile of their calendar days."""
    base = days.calendar.base_days(_AROUND)
    below = days.side == "below"
    result = exceedance_of_rows(_rows(days), base, share, below, BASE_COVERAGE)
    return 100.0 * days.statistic(Mean(), _from_rows(result, days))


def total_above_percentile(days: Days, share: float) -> Array:
    """Return the total of days above a percentile of those days of the base that fulfil the
    condition."""
    in_base = days.calendar.base_year >= 0
    wet = np.where(days.flags[in_base], days.values[in_base], np.nan)
    limit = median_unbiased(np.moveaxis(ascending(wet), -1, 0), share)
    heavy = days.flags & (days.values > limit)
    total = days.statistic(Total(), np.where(heavy, days.values, 0.0))
    return np.where(np.isnan(limit), np.nan, total)


def growing_season_length(days: Days) -> Array:
    """Return the days between the beginning and the end of the growing season; none where it does
    not begin, and up to the end of the year where it does not end."""
    starts, ends = _growing_season(days)
    spans = days.calendar.spans
    lengths = [span.stop - span.first for span in spans]
    whole = np.array(lengths).reshape(-1, *(1,) * (starts.ndim - 1))
    ends = np.where(np.isnan(ends), whole, ends)
    return np.where(np.isnan(starts), 0.0, np.maximum(ends - starts, 0.0))


def growing_season_start(days: Days) -> Array:
    return _growing_season(days)[0]


def growing_season_end(days: Days) -> Array:
    return _growing_season(days)[1]


def last_in_first_half(days: Days) -> Array:
    """Return the last day of the first half of the period that fulfils the condition."""
    flags = days.flags
    return np.stack([last_day(flags[s.first : s.middle]) for s in days.calendar.spans])


def first_in_second_half(days: Days) -> Array:
    """Return the first day of the second half of the period that fulfils the condition."""
    flags = days.flags
    spans = days.calendar.spans
    return np.stack(
        [first_day(flags[s.middle : s.stop]) + (s.middle - s.first) for s in spans]
    )


def rain_onset(days: Days) -> Array:
    """Return the first wet day that begins three days with the amount of the threshold, and after
    which no dry spell of more than seven days comes within thirty."""
    totals = _ahead(running_sum(days.values, _ONSET_DAYS), _ONSET_DAYS - 1)
    wet = days.asking(days.wet, "from").flags
    enough = replace(days, values=totals, side="from").flags
    dry = days.asking(days.wet, "below").flags
    # How often a spell has become too long, up to each day; the day itself is wet.
    too_long = np.cumsum(count_so_far(dry) == _DRY_SPELL + 1, axis=0, dtype=np.float64)
    stays_wet = _ahead(too_long, _WATCHED) == too_long
    return days.each(first_day, wet & enough & stays_wet)


def wave_number(days: Days) -> Array:
    return days.each(lambda part: _count(lengths_at_ends(part) >= _WAVE), _hot(days))


def wave_days(days: Days) -> Array:
    return days.each(lambda part: _count(lie_in_spells(part, _WAVE)), _hot(days))


def longest_wave(days: Days) -> Array:
    """Return the length of the longest heat wave; 0 where there is none."""
    longest = days.each(
        lambda part: count_so_far(part).max(axis=0, initial=0), _hot(days)
    )
    return np.where(longest >= _WAVE, longest, 0.0)


def hottest_of_waves(days: Days) -> Array:
    """Return the highest value of the days of heat waves; missing where there is none."""
    hot = _hot(days)
    inside = np.full_like(days.values, np.nan)
    for span in days.calendar.spans:
        in_wave = lie_in_spells(hot[span.days], _WAVE)
        inside[span.days] = np.where(in_wave, days.values[span.days], np.nan)
    return days.statistic(Highest(), inside, "high")


def _hot(days: Days) -> Array:
    """Return the days above the threshold, or without one above the 90th percentile of theirs."""
    if not np.isnan(days.threshold):
        return days.flags
    return _beyond_percentile(days, 0.9, _AROUND_WAVE)


def _growing_season(days: Days) -> tuple[Array, Array]:
    """Return the first days of the first warm spell, and of the first cold one of the second half
    of the year, counted from the beginning of the year."""
    warm = days.asking(days.threshold, "above").flags
    cold = days.asking(days.threshold, "below").flags
    starts = days.each(lambda part: first_of_spell(part, _GROWING), warm)
    ends = [
        first_of_spell(cold[s.middle : s.stop], _GROWING) + (s.middle - s.first)
        for s in days.calendar.spans
    ]
    return starts, np.stack(ends)


def _beyond_percentile(days: Days, share: float, window: int) -> Array:
    base = days.calendar.base_days(window)
    values = days.values.reshape(len(days.values), -1)
    limits = thresholds_of_days(values, base, share, BASE_COVERAGE)
    # Days that are no calendar day, with a phase of -1, have none.
    limits = np.concatenate([limits, np.full((1, values.shape[1]), np.nan)])
    of_days = limits[days.calendar.phase].reshape(days.values.shape)
    if days.side == "below":
        return np.asarray(days.values < of_days)
    return np.asarray(days.values > of_days)


def _rows(days: Days) -> Array:
    """Return the series of each cell as a row, shape (cells, days)."""
    return turn(days.values.reshape(len(days.values), -1))


def _from_rows(rows: Array, days: Days) -> Array:
    return turn(rows).reshape(days.values.shape)


def _ahead(values: Array, days: int) -> Array:
    """Return the values of some days later."""
    later = np.full(values.shape, np.nan)
    later[: len(values) - days] = values[days:]
    return later


def _count(flags: Array) -> Array:
    return np.asarray(flags.sum(axis=0, dtype=np.float64))
