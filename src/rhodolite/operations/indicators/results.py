"""The variables that indicators become: their thresholds in the units of the data, their values and
what is said of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from rhodolite.arrays import (
    Aligned,
    Array,
    Elementwise,
    InMemory,
    LazyArray,
    Reduction,
    read_small,
)
from rhodolite.errors import DataError, warn
from rhodolite.model.axes import Role
from rhodolite.model.cf.departures import REFERENCE_PERIOD
from rhodolite.model.cf.named_variables import placing_of
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.time_units import counts_from_a_date
from rhodolite.model.units.conversion import of_differences, rescaling_between
from rhodolite.model.units.differences import describe_units, is_difference
from rhodolite.model.variable import UNITS_OF_ONE, Storage, Variable
from rhodolite.operations.baseline.base_period import BasePeriod
from rhodolite.operations.indicators.days import Calendar, lay_out
from rhodolite.operations.indicators.definitions import (
    WET_DAY,
    Indicator,
    Needs,
    Result,
)
from rhodolite.operations.indicators.kinds import IndicatorKind
from rhodolite.operations.indicators.work import DATE_ENDING, Asked, IndicatorWork
from rhodolite.operations.parameters.threshold import Threshold
from rhodolite.operations.time_groups.periods import Periods
from rhodolite.operations.time_groups.totals import rate_units
from rhodolite.operations.variables.along_time import put_time_back, time_axis_of
from rhodolite.operations.variables.latitudes import latitudes_of

_HALF_A_YEAR = 6
"""Months by which the growing year of the south is later."""
_MILLIMETRE = "mm"
_UNITS = {
    Result.DAYS: "day",
    Result.TIMES: UNITS_OF_ONE,
    Result.PERCENT: "%",
    Result.AMOUNT: _MILLIMETRE,
    Result.INTENSITY: "mm day-1",
}


@dataclass(frozen=True)
class IndicatorsOf:
    """The indicators of one variable.

    Attributes
    ----------
    dataset : Dataset
    variable : Variable
    base : BasePeriod or None
        Whose years set percentiles.
    periods : Periods
    lacking : int
        How many days of a period may be missing.
    """

    dataset: Dataset
    variable: Variable
    base: BasePeriod | None
    periods: Periods
    lacking: int

    def variables(
        self, kinds: Sequence[IndicatorKind], calendar: Calendar
    ) -> dict[str, Variable]:
        """Return the results by name.

        Raises
        ------
        DataError
            If the units of the variable are not those of what it should be.
        """
        results: dict[str, Variable] = {}
        for growing in (False, True):
            chosen = [k for k in kinds if k.indicator.growing_year is growing]
            if not chosen:
                continue
            arrays = self._of_hemispheres(chosen, calendar, growing=growing)
            for kind in chosen:
                for name in kind.result_names:
                    results[name] = self._describe(kind, name, arrays[name])
        return results

    def _of_hemispheres(
        self, kinds: Sequence[IndicatorKind], calendar: Calendar, *, growing: bool
    ) -> dict[str, LazyArray]:
        """Return the results by name; `growing` says that years begin in July in the south."""
        asked = tuple(self._ask(kind) for kind in kinds)
        arrays = self._arrays(asked, calendar)
        in_south = self._in_south() if growing else None
        if in_south is None:
            return arrays
        later = lay_out(self.dataset, self.periods.divided, self.base, _HALF_A_YEAR)
        southern = self._arrays(asked, later)
        return {
            name: Elementwise([in_south, southern[name], array], _choose)
            for name, array in arrays.items()
        }

    def _arrays(
        self, asked: tuple[Asked, ...], calendar: Calendar
    ) -> dict[str, LazyArray]:
        along, shape = self._along, self.variable.shape
        lengths = np.array([span.stop - span.first for span in calendar.spans])
        allowed = np.minimum(self.lacking, lengths - 1)
        work = IndicatorWork(self.variable.name, along, calendar, asked, allowed)
        first = (len(calendar.spans), *shape[:along], *shape[along + 1 :])
        reduction = Reduction(self.variable.floats(), series=work)
        return {
            name: put_time_back(reduction.output(name, first), along)
            for name in work.outputs()
        }

    @property
    def _along(self) -> int:
        return time_axis_of(self.dataset, self.variable)

    def _in_south(self) -> LazyArray | None:
        """Return 1 for cells south of the equator, and 0 for others; None where all are."""
        latitudes = latitudes_of(self.dataset)
        if latitudes is None:
            warn(
                f"{self.dataset.label} has no latitudes, so years are those of the north, which "
                "begin in January"
            )
            return None
        south = read_small(latitudes.floats()) < 0
        if not south.any():
            return None
        shape = list(self.variable.shape)
        shape[self._along] = self.periods.count
        return Aligned(
            InMemory(south.astype(np.float64)),
            latitudes.dimensions,
            self.variable.dimensions,
            tuple(shape),
        )

    def _ask(self, kind: IndicatorKind) -> Asked:
        indicator, text = kind.indicator, kind.asked_threshold
        rain = indicator.needs is Needs.RAIN
        return Asked(
            kind.variable_name,
            indicator,
            self._in_own_units(text, kind) if text else np.nan,
            self._factor(indicator),
            self.variable.precision,
            self._in_own_units(WET_DAY, kind) if rain else np.nan,
        )

    def _in_own_units(self, text: str, kind: IndicatorKind) -> float:
        """Return a threshold in the units of the variable."""
        threshold = Threshold.parse(text)
        if kind.indicator.needs is Needs.RAIN and self._is_rate:
            # Amounts of rain are those of days; a number alone is none.
            units = f"{threshold.units or 'of what'}/day"
            threshold = Threshold(threshold.number, units)
        try:
            return threshold.within(self.variable, f"--kind {kind}")
        except DataError:
            advice = ""
            if kind.indicator.needs is Needs.RAIN:
                advice = f"; write an amount: {kind.name} {threshold.number:g}mm"
            raise DataError(
                f"--kind {kind}: {self.variable.name} is in {self.variable.units or 'no units'}, "
                f"which {text} cannot be converted to{advice}"
            ) from None

    @property
    def _is_rate(self) -> bool:
        return rate_units(self.variable.units or UNITS_OF_ONE) is not None

    def _factor(self, indicator: Indicator) -> float:
        """Return what results are multiplied by for the units that they are given in."""
        units = self.variable.units or UNITS_OF_ONE
        if indicator.result in (Result.AMOUNT, Result.INTENSITY):
            target = f"{_MILLIMETRE}/day" if self._is_rate else _MILLIMETRE
            try:
                return rescaling_between(units, target).of(1.0)
            except ValueError:
                raise DataError(
                    f"{self.variable.name} is in {self.variable.units or 'no units'}, which is no "
                    "amount of a day; convert it to mm/day first, or name another with --rain"
                ) from None
        if indicator.result is Result.DEGREE_DAYS or indicator.needs is Needs.RANGE:
            return of_differences(units)[0]
        return 1.0

    def _describe(self, kind: IndicatorKind, name: str, data: LazyArray) -> Variable:
        indicator = kind.indicator
        of_day = name.endswith(DATE_ENDING)
        about = placing_of(self.variable)
        words = indicator.words.format(_spaced(kind.asked_threshold))
        about["long_name"] = f"{words}, day of the year" if of_day else words
        about |= self._units(indicator, of_day=of_day)
        time = str(self.dataset.need(Role.TIME).name)
        before = str(self.variable.attributes.get("cell_methods", ""))
        if indicator.result is not Result.DATE:
            now = f"{time}: {indicator.method} (interval: 1 day)"
            about["cell_methods"] = f"{before} {now}".strip()
        if indicator.by_base and self.base is not None and not kind.threshold:
            about[REFERENCE_PERIOD] = self.base.text
        is_date = counts_from_a_date(about["units"])
        dtype = "float64" if is_date else "float32"
        return Variable(
            name, self.variable.dimensions, data, about, Storage(dtype=dtype)
        )

    def _units(self, indicator: Indicator, *, of_day: bool) -> dict[str, Any]:
        result = indicator.result
        if of_day:
            return {"units": UNITS_OF_ONE}
        if result is Result.DATE:
            axis = self.dataset.need_time()
            return {"units": str(axis.units), "calendar": axis.calendar}
        if result in _UNITS:
            return {"units": _UNITS[result]}
        own = self.variable.units or UNITS_OF_ONE
        difference = of_differences(own)[1] or own
        if result is Result.DEGREE_DAYS:
            return {"units": f"{difference} day"}
        if indicator.needs is Needs.RANGE:
            return describe_units(difference, difference=True)
        return describe_units(own, difference=is_difference(self.variable))


def _choose(in_south: Array, southern: Array, northern: Array) -> Array:
    return np.where(in_south > 0, southern, northern)


def _spaced(threshold: str) -> str:
    """Return a threshold as it stands in a sentence: `0 degC`."""
    number = threshold.rstrip("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ/-")
    return f"{number} {threshold[len(number) :]}".strip()
