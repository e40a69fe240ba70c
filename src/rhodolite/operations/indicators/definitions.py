"""The indicators that are offered, one row each.

The short names and definitions of the first part are those of the Expert Team on Climate Change
Detection and Indices (WMO-TD 1500, 2009; Zhang and others 2011, WIREs Climate Change 2, 851-870).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import Enum, auto
from functools import partial

from rhodolite.arrays import Array
from rhodolite.operations.indicators import measures
from rhodolite.operations.indicators.days import Days

WET_DAY = "1mm"


class Needs(Enum):
    """Which daily values an indicator is made of."""

    LOWEST = "daily minimum temperature"
    HIGHEST = "daily maximum temperature"
    MEAN = "daily mean temperature"
    RANGE = "daily minimum and maximum temperature"
    RAIN = "daily precipitation"


_EXPERT_TEAM = "Zhang and others 2011, WIREs Climate Change 2, 851-870"
_WAVES = "Perkins and Alexander 2013, Journal of Climate 26, 4500-4517"
_ONSET = "Sivakumar 1988, Agricultural and Forest Meteorology 42, 295-305"


class Result(Enum):
    """What an indicator is a number of."""

    DAYS = auto()
    TIMES = auto()
    PERCENT = auto()
    VALUES = auto()
    AMOUNT = auto()
    INTENSITY = auto()
    DEGREE_DAYS = auto()
    DATE = auto()
    """A day of the period, counted from its first."""


@dataclass(frozen=True)
class Indicator:
    """An indicator.

    Attributes
    ----------
    needs : Needs
    words : str
        What it is, as its long name; `{}` stands for the threshold.
    measure : callable
        What makes it of days.
    result : Result
    threshold : str
        That days are held against, as people write it; empty where there is none.
    side : {"above", "below", "from"}
        See `Days`.
    monthly : bool
        Whether it is defined for months and seasons too.
    own_threshold : bool
        Whether another threshold may be given.
    growing_year : bool
        Whether its year begins in July south of the equator.
    by_base : bool
        Whether the years of a base set a percentile.
    method : str
        What is done over time, as cell methods have it.
    source : str
        Where the definition comes from; empty where it needs none.
    """

    needs: Needs
    words: str
    measure: Callable[[Days], Array]
    result: Result
    threshold: str = ""
    side: str = "above"
    monthly: bool = True
    own_threshold: bool = False
    growing_year: bool = False
    by_base: bool = False
    method: str = "sum"
    source: str = _EXPERT_TEAM


def _days(needs: Needs, words: str, threshold: str, side: str) -> Indicator:
    return Indicator(
        needs,
        words,
        measures.count_days,
        Result.DAYS,
        threshold,
        side,
        own_threshold=True,
    )


def heavy_rain(amount: str) -> Indicator:
    """Return the number of days with some millimetres and more."""
    words = "days with precipitation of {} and more"
    return Indicator(
        Needs.RAIN, words, measures.count_days, Result.DAYS, f"{amount}mm", "from"
    )


def _value(
    needs: Needs, words: str, measure: Callable[[Days], Array], method: str
) -> Indicator:
    return Indicator(needs, words, measure, Result.VALUES, method=method)


def _share(needs: Needs, words: str, share: float) -> Indicator:
    side = "below" if share < 0.5 else "above"
    measure = partial(measures.share_beyond, share=share)
    return Indicator(
        needs,
        words,
        measure,
        Result.PERCENT,
        side=side,
        by_base=True,
        method="mean",
    )


def _spells(needs: Needs, words: str, share: float) -> Indicator:
    return Indicator(
        needs,
        words,
        partial(measures.days_in_spells, share=share),
        Result.DAYS,
        side="below" if share < 0.5 else "above",
        monthly=False,
        by_base=True,
    )


def _heavy(words: str, share: float) -> Indicator:
    return Indicator(
        Needs.RAIN,
        words,
        partial(measures.total_above_percentile, share=share),
        Result.AMOUNT,
        WET_DAY,
        "from",
        by_base=True,
    )


def _rain(
    words: str,
    measure: Callable[[Days], Array],
    result: Result,
    side: str = "from",
    method: str = "sum",
    *,
    monthly: bool = True,
) -> Indicator:
    return Indicator(
        Needs.RAIN,
        words,
        measure,
        result,
        WET_DAY,
        side,
        monthly=monthly,
        method=method,
    )


def _wave(
    words: str,
    measure: Callable[[Days], Array],
    result: Result = Result.DAYS,
    method: str = "sum",
) -> Indicator:
    return Indicator(
        Needs.HIGHEST,
        words,
        measure,
        result,
        own_threshold=True,
        by_base=True,
        method=method,
        source=_WAVES,
    )


def _season(
    words: str,
    measure: Callable[[Days], Array],
    result: Result = Result.DATE,
    needs: Needs = Needs.MEAN,
    threshold: str = "5degC",
    side: str = "above",
) -> Indicator:
    return Indicator(
        needs,
        words,
        measure,
        result,
        threshold,
        side,
        monthly=False,
        own_threshold=True,
        growing_year=True,
    )


def _degree_days(words: str, threshold: str, side: str) -> Indicator:
    return Indicator(
        Needs.MEAN,
        words,
        measures.excess,
        Result.DEGREE_DAYS,
        threshold,
        side,
        own_threshold=True,
        source="",
    )


_LOW, _HIGH = Needs.LOWEST, Needs.HIGHEST

INDICATORS = {
    "FD": _days(_LOW, "frost days, daily minimum below {}", "0degC", "below"),
    "SU": _days(_HIGH, "summer days, daily maximum above {}", "25degC", "above"),
    "ID": _days(_HIGH, "ice days, daily maximum below {}", "0degC", "below"),
    "TR": _days(_LOW, "tropical nights, daily minimum above {}", "20degC", "above"),
    "GSL": _season(
        "length of the growing season, daily mean above {}",
        measures.growing_season_length,
        Result.DAYS,
    ),
    "TXx": _value(
        _HIGH, "highest daily maximum temperature", measures.highest, "maximum"
    ),
    "TNx": _value(
        _LOW, "highest daily minimum temperature", measures.highest, "maximum"
    ),
    "TXn": _value(
        _HIGH, "lowest daily maximum temperature", measures.lowest, "minimum"
    ),
    "TNn": _value(_LOW, "lowest daily minimum temperature", measures.lowest, "minimum"),
    "TN10p": _share(_LOW, "cold nights, below the 10th percentile", 0.1),
    "TX10p": _share(_HIGH, "cold days, below the 10th percentile", 0.1),
    "TN90p": _share(_LOW, "warm nights, above the 90th percentile", 0.9),
    "TX90p": _share(_HIGH, "warm days, above the 90th percentile", 0.9),
    "WSDI": _spells(
        _HIGH, "days in warm spells, of six days above the 90th percentile", 0.9
    ),
    "CSDI": _spells(
        _LOW, "days in cold spells, of six days below the 10th percentile", 0.1
    ),
    "DTR": _value(Needs.RANGE, "mean diurnal temperature range", measures.mean, "mean"),
    "Rx1day": Indicator(
        Needs.RAIN,
        "highest one-day precipitation",
        measures.highest,
        Result.AMOUNT,
        method="maximum",
    ),
    "Rx5day": Indicator(
        Needs.RAIN,
        "highest five-day precipitation",
        partial(measures.highest_total, length=5),
        Result.AMOUNT,
        method="maximum",
    ),
    "SDII": _rain(
        "mean precipitation of wet days",
        measures.mean_where,
        Result.INTENSITY,
        method="mean",
    ),
    "R10mm": heavy_rain("10"),
    "R20mm": heavy_rain("20"),
    "CDD": _rain(
        "longest dry spell, of days below 1 mm",
        measures.longest_spell,
        Result.DAYS,
        "below",
        "maximum",
        monthly=False,
    ),
    "CWD": _rain(
        "longest wet spell, of days with 1 mm and more",
        measures.longest_spell,
        Result.DAYS,
        method="maximum",
        monthly=False,
    ),
    "R95pTOT": _heavy(
        "precipitation of days above the 95th percentile of wet days", 0.95
    ),
    "R99pTOT": _heavy(
        "precipitation of days above the 99th percentile of wet days", 0.99
    ),
    "PRCPTOT": _rain(
        "total precipitation of wet days", measures.total_where, Result.AMOUNT
    ),
    "heat-waves": _wave("number of heat waves", measures.wave_number, Result.TIMES),
    "heat-wave-days": _wave("days in heat waves", measures.wave_days),
    "longest-heat-wave": _wave(
        "length of the longest heat wave", measures.longest_wave, method="maximum"
    ),
    "hottest-of-heat-waves": _wave(
        "highest daily maximum in heat waves",
        measures.hottest_of_waves,
        Result.VALUES,
        "maximum",
    ),
    "heating-degree-days": _degree_days(
        "heating degree days, daily mean below {}", "18degC", "below"
    ),
    "cooling-degree-days": _degree_days(
        "cooling degree days, daily mean above {}", "18degC", "above"
    ),
    "growing-degree-days": _degree_days(
        "growing degree days, daily mean above {}", "10degC", "above"
    ),
    "growing-season-start": _season(
        "first day of the growing season, daily mean above {}",
        measures.growing_season_start,
    ),
    "growing-season-end": _season(
        "first day after the growing season, daily mean above {}",
        measures.growing_season_end,
    ),
    "last-spring-frost": _season(
        "last day of the first half of the year with a minimum below {}",
        measures.last_in_first_half,
        needs=_LOW,
        threshold="0degC",
        side="below",
    ),
    "first-autumn-frost": _season(
        "first day of the second half of the year with a minimum below {}",
        measures.first_in_second_half,
        needs=_LOW,
        threshold="0degC",
        side="below",
    ),
    "rain-onset": Indicator(
        Needs.RAIN,
        "onset of the rains, {} in three days and no dry spell of more than seven days within "
        "thirty",
        measures.rain_onset,
        Result.DATE,
        "20mm",
        "from",
        monthly=False,
        own_threshold=True,
        source=_ONSET,
    ),
}
"""By name, in the order in which they are offered."""
