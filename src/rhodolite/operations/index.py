"""Indices that say how dry or wet, cold or warm a time was."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Self

import numpy as np

from rhodolite.arrays import FirstAxisMoved, Mapped, Reduction
from rhodolite.errors import DataError, UsageError, warn
from rhodolite.model.cf.departures import BASE_PERIOD, REFERENCE_PERIOD
from rhodolite.model.cf.named_variables import placing_of
from rhodolite.model.cf.precipitation import tell_precipitation
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.period_text import Period
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.typed_value import TypedValue
from rhodolite.model.units.udunits import is_temperature
from rhodolite.model.variable import UNITS_OF_ONE, Storage, Variable
from rhodolite.operations.baseline.base_period import BASE_COVERAGE, BasePeriod
from rhodolite.operations.baseline.drought_index import (
    DEGREES,
    LIMITS,
    NO_CLASS,
    Classes,
    Distribution,
    IndexKind,
    IndexSpec,
    IndexWork,
)
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.parameters.cycle import Cycle
from rhodolite.operations.parameters.shares import check_coverage
from rhodolite.operations.time_groups.totals import sum_weights
from rhodolite.operations.variables.along_time import (
    put_in_place,
    time_axis_of,
    variables_along_time,
)
from rhodolite.plain_text import write_number


@dataclass(frozen=True)
class Tails(TypedValue):
    """What counts as extreme at each end: `10` values, or `10%` of them."""

    number: float
    percent: bool = False

    @classmethod
    def parse(cls, text: str) -> Self:
        number = text.strip().removesuffix("%").strip()
        try:
            value = float(number)
        except ValueError:
            raise ValueError(
                f"'{text}' is neither a number of values, such as 10, nor a share, such as 10%"
            ) from None
        percent = text.strip().endswith("%")
        if percent and not 0 < value < 50:
            raise ValueError(
                f"'{text}': the share at each end has to be above 0% and below 50%"
            )
        if not percent and (value < 1 or value != int(value)):
            raise ValueError(
                f"'{text}' is not a number of values; write 10, or 10% for a share"
            )
        return cls(value, percent)

    def __str__(self) -> str:
        return f"{write_number(self.number)}{'%' if self.percent else ''}"

    @property
    def words(self) -> str:
        return (
            f"values beyond the outer {self}" if self.percent else f"the {self} values"
        )


@dataclass(frozen=True)
class Index(Operation):
    """How unusual each month, season or year was, as one number.

    `rainfall-anomaly` (van Rooy 1965): departures from the mean, scaled so that +3 is the mean
    of the highest and -3 the mean of the lowest values of the base period. `standardised`
    (McKee and others 1993): the standard normal deviate of equal probability, from a gamma
    distribution with a probability of zero for precipitation, and from a normal distribution
    for other quantities, accumulated over one or several months; of a water balance, such as
    precipitation less evapotranspiration, from a log-logistic distribution (Vicente-Serrano and
    others 2010). `percentile`: the share of the base below a value, what is equal counting half.
    `rank`: the place among the base from the highest, which is 1. Each month or season is compared
    with the same month or season of the base period. Grid cells with equal or too few values are
    missing.

    Examples
    --------
    >>> Index(kind="standardised", months=3, base="1991..2020")  # doctest: +SKIP
    """

    kind: IndexKind = parameter("kind of index", default=IndexKind.RAINFALL_ANOMALY)
    base: Period | None = parameter(
        "base period (default: the whole record)", example="1991..2020"
    )
    extremes: Tails = parameter(
        "extremes at each end: a number of values, or a percentage such as 10%",
        default=Tails(10),
        example="10",
    )
    months: int = parameter(
        "accumulation period in months, for standardised (12 for a year)", default=1
    )
    distribution: Distribution | None = parameter(
        "distribution to fit, for standardised (default: by the quantity)"
    )
    classes: bool = parameter(
        "write the class too, from extremely dry to extremely wet", default=False
    )
    min_coverage: float = parameter(
        "minimum fraction of valid values in the base period (0 to 1)",
        default=BASE_COVERAGE,
    )

    def check(self) -> None:
        check_coverage(self.min_coverage)
        if not 1 <= self.months <= 120:
            raise UsageError(
                f"--months: {self.months} is not a number of months; write 1, 3, 6, 12 ..."
            )
        if self.kind is not IndexKind.STANDARDISED and (
            self.months > 1 or self.distribution
        ):
            raise UsageError(
                "--months and --distribution belong to --kind standardised; for --kind "
                f"{self.kind} of several months, aggregate first"
            )
        if self.classes and self.kind not in LIMITS:
            raise UsageError(f"--classes: there are none of --kind {self.kind}")

    def sources(self) -> tuple[str, ...]:
        """See `Step.sources`."""
        choices = (self.kind, self.distribution)
        return tuple(s for choice in choices for s in _SOURCES.get(choice, ()))

    def apply(self, dataset: Dataset) -> Dataset:
        """Return a dataset of indices NAME_index and, if asked for, classes NAME_class.

        Raises
        ------
        DataError
            If the steps are shorter than a month or irregular, or the base has too few years.
        """
        axis = dataset.need_time()
        base = BasePeriod.of(dataset, _cycle_of(axis), self.base, self.min_coverage)
        base.need_all_phases()
        fewest = int(base.full.min())
        if (
            self.kind is IndexKind.RAINFALL_ANOMALY
            and not self.extremes.percent
            and 2 * self.extremes.number >= fewest
        ):
            raise DataError(
                f"--extremes {self.extremes}: the base has {fewest} years, and the number has to "
                f"be below half of that; write --extremes {max(1, (fewest - 1) // 4)} or "
                "--extremes 10%"
            )
        if self.months > 1 and (axis.step.unit, axis.step.count, axis.step.missing) != (
            "month",
            1,
            0,
        ):
            gaps = ", with gaps" if axis.step.missing else ""
            raise DataError(
                f"--months {self.months} needs months without a gap, and the data have one value "
                f"{axis.step}{gaps}; aggregate --to month first"
            )
        along_time, _ = variables_along_time(dataset)
        results = {
            variable.name: self._indices(dataset, variable, base)
            for variable in along_time
        }
        return dataset.with_variables(put_in_place(dataset, results))

    def _indices(
        self, dataset: Dataset, variable: Variable, base: BasePeriod
    ) -> list[Variable]:
        along, name = time_axis_of(dataset, variable), f"{variable.name}_index"
        fitted, why = self._choose_distribution(variable)
        lengths = sum_weights(variable, base.axis)
        tails = self.extremes
        spec = IndexSpec(self.kind, self.months, tails.number, tails.percent, fitted)
        work = IndexWork(variable.name, spec, base, along, lengths)
        first = (len(base.axis), *variable.shape[:along], *variable.shape[along + 1 :])
        data = FirstAxisMoved(
            Reduction(variable.floats(), series=work).output("value", first), along
        )
        indices = placing_of(variable)
        departs = self.kind not in (IndexKind.PERCENTILE, IndexKind.RANK)
        about = {
            "long_name": f"{self._words(fitted)} of {variable.quantity}",
            "units": "%" if self.kind is IndexKind.PERCENTILE else UNITS_OF_ONE,
            BASE_PERIOD if departs else REFERENCE_PERIOD: base.text,
            "comment": self._comment(fitted, why),
        }
        stored = Storage(dtype="float32", chunks=variable.storage.chunks)
        result = variable.replace(
            name=name,
            data=data,
            attributes={**about, **indices},
            storage=stored,
            missing=None,
        )
        if not self.classes:
            return [result]
        return [
            result.edit(ancillary_variables=f"{variable.name}_class"),
            self._classes(variable, result, indices),
        ]

    def _classes(
        self, variable: Variable, index: Variable, references: dict[str, Any]
    ) -> Variable:
        limits = LIMITS[self.kind]
        half = len(limits) // 2
        low, high = _directions(variable)
        degrees = DEGREES[half]
        meanings = [
            *(f"{d}_{low}" for d in reversed(degrees)),
            "near_normal",
            *(f"{d}_{high}" for d in degrees),
        ]
        about = {
            "long_name": f"class of the {index.attributes['long_name']}",
            "flag_values": np.arange(-half, half + 1, dtype=np.int8),
            "flag_meanings": " ".join(meanings),
            "class_limits": np.array(limits),
            "comment": "a value on a limit belongs to the class further from normal",
        }
        storage = Storage(fill_value=NO_CLASS, chunks=variable.storage.chunks)
        data = Mapped(index.data, Classes(limits), np.int8)
        return index.replace(
            name=f"{variable.name}_class",
            data=data,
            attributes={**about, **references},
            storage=storage,
            missing=NO_CLASS,
        )

    def _choose_distribution(self, variable: Variable) -> tuple[Distribution, str]:
        """Return which distribution is fitted, and why."""
        if self.distribution is not None:
            return self.distribution, "as asked for"
        is_precipitation = tell_precipitation(variable)
        if is_precipitation is not None:
            return Distribution.GAMMA, f"since {is_precipitation}"
        if self.kind is IndexKind.STANDARDISED and not is_temperature(
            variable.units or "1"
        ):
            warn(
                f"{variable.name}: a normal distribution is fitted, since nothing says that it is "
                "precipitation; if it is: --distribution gamma, and of a water balance: "
                "--distribution log-logistic"
            )
        return Distribution.NORMAL, "since nothing says that it is precipitation"

    def _words(self, fitted: Distribution) -> str:
        if self.kind is not IndexKind.STANDARDISED:
            return _WORDS[self.kind]
        over = f" over {self.months} months" if self.months > 1 else ""
        if fitted is Distribution.GAMMA:
            return f"standardised index{over}"
        return f"standardised index{over} ({fitted} distribution)"

    def _comment(self, fitted: Distribution, why: str) -> str:
        if self.kind is IndexKind.STANDARDISED:
            return f"{_FITTED[fitted]}, {why}"
        if self.kind is IndexKind.RAINFALL_ANOMALY:
            return (
                f"after van Rooy 1965: +3 is the mean of {self.extremes.words} at the upper "
                "end, -3 at the lower"
            )
        return _BY_ORDER[self.kind]


_SOURCES: dict[IndexKind | Distribution | None, tuple[str, ...]] = {
    IndexKind.STANDARDISED: (
        "McKee, Doesken and Kleist 1993, Eighth Conference on Applied Climatology, 179-184",
    ),
    IndexKind.RAINFALL_ANOMALY: ("van Rooy 1965, Notos 14, 43-48",),
    IndexKind.PERCENTILE: ("Hazen 1914, Transactions of the ASCE 77, 1539-1640",),
    Distribution.GAMMA: ("Thom 1958, Monthly Weather Review 86, 117-122",),
    Distribution.LOG_LOGISTIC: (
        "Vicente-Serrano, Begueria and Lopez-Moreno 2010, Journal of Climate 23, 1696-1718",
        "Begueria and others 2014, International Journal of Climatology 34, 3001-3023",
    ),
}
_WORDS = {
    IndexKind.RAINFALL_ANOMALY: "rainfall anomaly index",
    IndexKind.PERCENTILE: "percentile",
    IndexKind.RANK: "rank from the highest",
}
_BY_ORDER = {
    IndexKind.PERCENTILE: "share of the base below the value, what is equal counting half",
    IndexKind.RANK: "place among the base from the highest, which is 1; equal values share the "
    "better place",
}
_FITTED = {
    Distribution.GAMMA: "gamma distribution with a share of zeros, after McKee and others 1993",
    Distribution.NORMAL: "normal distribution",
    Distribution.LOG_LOGISTIC: "log-logistic distribution by unbiased L-moments, after "
    "Vicente-Serrano and others 2010",
}


def _cycle_of(axis: TimeAxis) -> Cycle:
    """Return the cycle in which steps are held against their likes."""
    step = axis.resolution
    if step.unit == "year" and step.count == 1:
        return Cycle.parse("year")
    if step.unit == "month" and step.count == 1:
        return Cycle.MONTH
    if step.unit == "month" and step.count == 3:
        return Cycle.SEASON
    raise DataError(
        f"an index needs months, seasons or years, and the data have {step}; aggregate first, such "
        "as aggregate --to month --statistic sum then index"
    )


def _directions(variable: Variable) -> tuple[str, str]:
    if tell_precipitation(variable):
        return "dry", "wet"
    return (
        ("cold", "warm")
        if variable.units and is_temperature(variable.units)
        else ("low", "high")
    )
