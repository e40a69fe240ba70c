"""Indicators of daily weather, such as frost days, heavy rain and heat waves."""

from __future__ import annotations

from dataclasses import dataclass

from rhodolite.errors import DataError, UsageError
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.period_text import MonthOfYear, Period, Season
from rhodolite.model.time.time_intervals import Interval, divide
from rhodolite.model.variable import Variable
from rhodolite.operations.baseline.base_period import BasePeriod
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.indicators.days import Calendar, base_of, lay_out, need_days
from rhodolite.operations.indicators.definitions import Needs
from rhodolite.operations.indicators.kinds import IndicatorKind, IndicatorKinds
from rhodolite.operations.indicators.results import IndicatorsOf
from rhodolite.operations.indicators.sources import Sources
from rhodolite.operations.time_groups.periods import Periods
from rhodolite.operations.variables.along_time import put_in_place

_LACKING = {"year": 15, "season": 9, "month": 3}
"""Days that may be missing of each (the archives of the indices allow as many)."""


@dataclass(frozen=True)
class Indicator(Operation):
    """Frost days, heavy rain, heat waves, growing seasons: indicators of daily weather.

    Those of the Expert Team on Climate Change Detection and Indices have its short names: FD, SU,
    ID, TR, GSL, TXx, TNx, TXn, TNn, TN10p, TX10p, TN90p, TX90p, WSDI, CSDI, DTR, Rx1day, Rx5day,
    SDII, R10mm, R20mm (and any other amount), CDD, CWD, R95pTOT, R99pTOT, PRCPTOT. Beside them
    there are heat-waves, heat-wave-days, longest-heat-wave, hottest-of-heat-waves,
    heating-degree-days, cooling-degree-days, growing-degree-days, growing-season-start,
    growing-season-end, last-spring-frost, first-autumn-frost and rain-onset. Many take another
    threshold: 'SU 30degC'.

    Percentiles are those of the calendar day and the two days around it in the base; within the
    base, a year is held against the other years. Heat waves are three days and more above the 90th
    percentile of fifteen days, or above a threshold. Dry and wet spells belong to the year in which
    they end. South of the equator the year of growing seasons and frosts begins in July. A year may
    lack 15 days, a season 9 and a month 3.

    Examples
    --------
    >>> Indicator(kind="FD,TX90p,R25mm", base="1991..2020")  # doctest: +SKIP
    """

    kind: IndicatorKinds | None = parameter(
        "one or more indicators", example="FD,TX90p,R25mm"
    )
    to: Interval = parameter(
        "year, season or month", default=Interval("year"), example="month"
    )
    season: Season | None = parameter(
        "one season, in place of the four", example="jun..sep"
    )
    year_start: MonthOfYear | None = parameter(
        "month in which years begin", example="oct"
    )
    base: Period | None = parameter(
        "base period of percentiles (default: the whole record)", example="1991..2020"
    )
    missing_days: int | None = parameter("how many days of a period may be missing")
    lowest: str | None = parameter(
        "variable of the daily minimum temperature", example="NAME"
    )
    highest: str | None = parameter(
        "variable of the daily maximum temperature", example="NAME"
    )
    mean: str | None = parameter(
        "variable of the daily mean temperature", example="NAME"
    )
    rain: str | None = parameter("variable of daily precipitation", example="NAME")

    def check(self) -> None:
        if self.kind is None:
            raise UsageError(
                "indicator: which? Add --kind, such as --kind FD for frost days, or several: "
                "--kind FD,TX90p,R25mm"
            )
        self._check_periods()
        if self.missing_days is not None and self.missing_days < 0:
            raise UsageError(f"--missing-days {self.missing_days}: write 0 or more")
        for kind in self.kind.kinds:
            if not kind.indicator.monthly and self.to.unit != "year":
                raise UsageError(f"--kind {kind} is of a year, not of a {self.to}")

    def _check_periods(self) -> None:
        if self.to.unit not in _LACKING or self.to.count > 1:
            raise UsageError(
                f"--to {self.to}: indicators are of a year, season or month"
            )
        if self.season is not None and self.to.unit != "season":
            raise UsageError(f"--season goes with --to season, not with --to {self.to}")
        if self.year_start is not None and self.to.unit != "year":
            raise UsageError(
                f"--year-start goes with --to year, not with --to {self.to}"
            )

    def apply(self, dataset: Dataset) -> Dataset:
        """Return a dataset with a variable for each indicator, and one step a period.

        Raises
        ------
        DataError
            If the data are not daily, or a variable that is needed is not there.
        """
        assert self.kind is not None
        need_days(dataset, dataset.need_time())
        periods = self._periods(dataset)
        by_base = any(k.indicator.by_base for k in self.kind.kinds)
        base = base_of(dataset, self.base) if by_base else None
        calendar = lay_out(dataset, periods.divided, base)
        results = self._results(dataset, calendar, base, periods)
        coordinate = dataset.need(Role.TIME)
        time, bounds = periods.variables(coordinate)
        others = [
            v
            for v in put_in_place(dataset, {coordinate.name: [time]})
            if v.name == time.name or coordinate.dimension not in v.dimensions
        ]
        unchanged = [v for v in others if v.name != bounds.name]
        return dataset.with_variables([*unchanged, bounds, *results])

    def _periods(self, dataset: Dataset) -> Periods:
        """Return the periods that indicators are of."""
        axis = dataset.need_time()
        begin = self.year_start.number if self.year_start else 1
        divided = divide(axis, self.to, self.season, begin)
        steps = axis.order[divided.groups[axis.order] >= 0]
        if not steps.size:
            raise DataError(f"{dataset.label}: no day lies in the season {self.season}")
        return Periods(axis, divided, steps, self.to)

    def _results(
        self,
        dataset: Dataset,
        calendar: Calendar,
        base: BasePeriod | None,
        periods: Periods,
    ) -> list[Variable]:
        """Return all indicators in the order in which they were asked for."""
        assert self.kind is not None
        sources = Sources(dataset, self._named())
        lacking = self.missing_days
        if lacking is None:
            lacking = _LACKING[self.to.unit]
        by_need: dict[Needs, list[IndicatorKind]] = {}
        for kind in self.kind.kinds:
            by_need.setdefault(kind.indicator.needs, []).append(kind)
        results: dict[str, Variable] = {}
        for needs, kinds in by_need.items():
            variable = sources.find(needs)
            if needs is Needs.RAIN and periods.axis.is_part_of_each_day:
                raise DataError(
                    f"{variable.name} is of some hours of each day, and the rain of a day is all "
                    "that fell in it"
                )
            part = IndicatorsOf(dataset, variable, base, periods, lacking)
            results |= part.variables(kinds, calendar)
        names = [n for kind in self.kind.kinds for n in kind.result_names]
        return [results[name] for name in names]

    def _named(self) -> dict[Needs, str]:
        options = {
            Needs.LOWEST: self.lowest,
            Needs.HIGHEST: self.highest,
            Needs.MEAN: self.mean,
            Needs.RAIN: self.rain,
        }
        return {needs: name for needs, name in options.items() if name is not None}
