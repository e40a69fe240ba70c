"""Means of chosen times, against those of others."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from enum import Enum, StrEnum, auto
from typing import Any, ClassVar

import numpy as np

from rhodolite.arrays import (
    Aligned,
    Array,
    Concatenated,
    Elementwise,
    Engine,
    LazyArray,
    Mapped,
    Reduction,
    SeriesKernel,
)
from rhodolite.errors import DataError, UsageError
from rhodolite.kernels.composites import (
    compare_groups,
    permutation_test,
    shuffle_choices,
    welch_test,
)
from rhodolite.model.axes import Role
from rhodolite.model.cf.named_variables import placing_of
from rhodolite.model.dataset import Dataset
from rhodolite.model.units.conversion import Rescaling, of_differences
from rhodolite.model.units.differences import describe_units, is_difference
from rhodolite.model.units.udunits import pretty
from rhodolite.model.variable import UNITS_OF_ONE, Storage, Variable
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.expressions.chosen_times import TimesWhere
from rhodolite.operations.parameters.other_dataset import OtherDataset
from rhodolite.operations.parameters.shares import check_share
from rhodolite.operations.trends.false_discovery import (
    FALSE_DISCOVERY_SOURCE,
    flag_significant,
)
from rhodolite.operations.trends.sentence import p_text
from rhodolite.operations.variables.along_time import (
    time_axis_of,
    variables_along_time,
    whole_period,
)
from rhodolite.plain_text import write_rounded

_FEWEST_CHOICES = 99


class CompositeTest(StrEnum):
    """How the difference is tested."""

    T = "t"
    PERMUTATION = "permutation"


_SOURCES = {
    CompositeTest.T: "Welch 1947, Biometrika 34, 28-35",
    CompositeTest.PERMUTATION: "Phipson and Smyth 2010, Statistical Applications in Genetics and "
    "Molecular Biology 9, 39",
}
_TESTS = {
    CompositeTest.T: "t test for unequal variances, Welch 1947; times count as independent",
    CompositeTest.PERMUTATION: "permutation of the chosen times, Phipson and Smyth 2010",
}


class _Kind(Enum):
    """Of which units a result is."""

    VALUE = auto()
    DIFFERENCE = auto()
    NUMBER = auto()
    PVALUE = auto()


@dataclass(frozen=True)
class Composite(Operation):
    """Means over the times at which something was the case, against those of other times.

    `--when` chooses times by a series in a file, 'oni.csv:oni > 0.5', by the rank of its values,
    'lowest 5 of rain.csv', or by a formula on the data, 'mean(tas, area) > 290[K]'. A series of
    months or years chooses all days within them. The others are all further times, or those that
    `--against` names in the same way. Results are both means, their difference, its p-value and
    whether it is significant. Take the annual cycle out first (anomaly), or months are compared
    and not what happened in them. Each time counts alike, as the tests take them; subset --when,
    then summarise --over time, weighs them by their length.

    Examples
    --------
    >>> Composite(when="oni.csv:oni > 0.5", against="oni.csv:oni < -0.5")  # doctest: +SKIP
    """

    when: TimesWhere | None = parameter(
        "which times: 'FILE:NAME > 0.5', 'lowest 5 of FILE', or a formula",
        example="'oni.csv:oni > 0.5'",
    )
    against: TimesWhere | None = parameter(
        "against which times, in the same way (default: all others)",
        example="'oni.csv:oni < -0.5'",
    )
    with_: OtherDataset | None = parameter(
        "the file of the series, where --when says '> 0.5' alone", example="FILE[:NAME]"
    )
    test: CompositeTest = parameter("test of the difference", default=CompositeTest.T)
    permutations: int = parameter(
        "number of random choices of a permutation test", default=999
    )
    seed: int = parameter("start of the random numbers", default=0)
    alpha: float = parameter("significance level", default=0.05)
    false_discovery: bool = parameter(
        "significance level as the share of false discoveries", default=False
    )

    prints_result: ClassVar[bool] = True
    """Whether the result of a single series is said in words."""

    def check(self) -> None:
        if self.when is None:
            raise UsageError(
                "composite: of which times? Add --when, such as --when 'oni.csv:oni > 0.5'"
            )
        check_share("--alpha", self.alpha)
        if self.permutations < _FEWEST_CHOICES:
            raise UsageError(
                f"--permutations {self.permutations}: at least {_FEWEST_CHOICES} tell anything"
            )

    def sources(self) -> tuple[str, ...]:
        """See `Step.sources`."""
        rate = (FALSE_DISCOVERY_SOURCE,) if self.false_discovery else ()
        return (_SOURCES[self.test], *rate)

    def apply(self, dataset: Dataset) -> Dataset:
        """Return a dataset of means and differences, without the time axis.

        Raises
        ------
        DataError
            If no time is chosen, or the times of the series are not those of the data.
        """
        assert self.when is not None
        conditions = [self.when.condition(dataset, self.with_)]
        if self.against is not None:
            conditions.append(self.against.condition(dataset, self.with_))
        self._check_chosen(dataset, conditions)
        along_time, others = variables_along_time(dataset)
        results: list[Variable] = []
        remarks = list(dataset.remarks)
        for variable in along_time:
            part = self._results(dataset, variable, conditions)
            results += part
            if variable.data.size == len(dataset.need_time()):
                remarks.append(_Sentence(variable, tuple(part)))
        coordinate = dataset.need(Role.TIME)
        time = whole_period(coordinate, dataset.need_time())
        unchanged = [v for v in others if v.name not in {t.name for t in time}]
        return dataset.with_variables(
            [*unchanged, *time, *results],
            unlimited=dataset.unlimited - {str(coordinate.dimension)},
            remarks=tuple(remarks),
        )

    def _check_chosen(self, dataset: Dataset, conditions: list[Variable]) -> None:
        """Refuse conditions on a series that choose no time, or one twice."""
        chosen = [
            np.asarray(c.data.read((slice(0, c.shape[0]),))) == 1
            for c, asked in zip(conditions, (self.when, self.against), strict=False)
            if asked is not None and asked.formula is None
        ]
        for flags, option in zip(chosen, ("--when", "--against"), strict=False):
            if not flags.any():
                raise DataError(
                    f"{option}: no time of {dataset.label} is chosen; the condition is never met"
                )
        if len(chosen) == 2 and (chosen[0] & chosen[1]).any():
            raise DataError(
                f"--when and --against choose {(chosen[0] & chosen[1]).sum():,} times both; they "
                "have to exclude each other"
            )

    def _results(
        self, dataset: Dataset, variable: Variable, conditions: list[Variable]
    ) -> list[Variable]:
        along, n = time_axis_of(dataset, variable), len(dataset.need_time())
        by_cell = any(len(c.dimensions) > 1 for c in conditions)
        if by_cell and self.test is CompositeTest.PERMUTATION:
            raise UsageError(
                "--test permutation: the condition differs from cell to cell, and times can only "
                "be exchanged where they are chosen for all cells; use --test t"
            )
        source: LazyArray = variable.floats()
        series = () if by_cell else tuple(c.floats() for c in conditions)
        if by_cell:
            spread = [_spread_out(c, variable) for c in conditions]
            source = Concatenated([source, *spread], along)
        test = self.permutations if self.test is CompositeTest.PERMUTATION else 0
        work = _Groups(along, n, len(conditions), series, test, self.seed)
        reduction = Reduction(source, series=work)
        return self._variables(variable, along, reduction)

    def _variables(
        self, variable: Variable, along: int, reduction: Reduction
    ) -> list[Variable]:
        cells = (*variable.shape[:along], *variable.shape[along + 1 :])
        dimensions = (*variable.dimensions[:along], *variable.dimensions[along + 1 :])
        shared = placing_of(variable)
        factor = of_differences(variable.units)[0]
        results = []
        for ending, (words, kind) in self._titles(variable.quantity).items():
            data: LazyArray = reduction.output(ending, cells)
            if kind is _Kind.DIFFERENCE and factor != 1.0:
                data = Mapped(data, Rescaling(factor, 0.0), "f8")
            about = {"long_name": words, **_units_of(variable, kind), **shared}
            if kind is _Kind.PVALUE:
                about["comment"] = _TESTS[self.test]
            precision = "f8" if kind is _Kind.PVALUE else variable.precision
            storage = Storage(dtype=np.dtype(precision).name)
            name = f"{variable.name}_{ending}"
            results.append(Variable(name, dimensions, data, about, storage))
        significant = flag_significant(
            f"{variable.name}_difference_significant",
            f"whether the difference of {variable.quantity} is significant",
            results[-1],
            self.alpha,
            false_discovery=self.false_discovery,
            attributes=shared,
        )
        return [*results, significant]

    def _titles(self, what: str) -> dict[str, tuple[str, _Kind]]:
        """Return for each result its words, and of which units it is; the p-value last."""
        asked = str(self.when)
        rest = "all others" if self.against is None else str(self.against)
        return {
            "chosen": (f"mean {what} where {asked}", _Kind.VALUE),
            "others": (f"mean {what} of {rest}", _Kind.VALUE),
            "difference": (
                f"difference of {what} where {asked} from {rest}",
                _Kind.DIFFERENCE,
            ),
            "chosen_count": (f"number of values of {what} where {asked}", _Kind.NUMBER),
            "others_count": (f"number of values of {what} of {rest}", _Kind.NUMBER),
            "difference_pvalue": (
                f"p-value of the difference of {what}",
                _Kind.PVALUE,
            ),
        }


def _units_of(variable: Variable, kind: _Kind) -> dict[str, str]:
    """Return the attributes that say in which units a result is."""
    if kind in (_Kind.NUMBER, _Kind.PVALUE):
        return {"units": UNITS_OF_ONE}
    if kind is _Kind.DIFFERENCE:
        return describe_units(of_differences(variable.units)[1], difference=True)
    return describe_units(variable.units, difference=is_difference(variable))


def _spread_out(condition: Variable, variable: Variable) -> LazyArray:
    """Return a condition at every cell of a variable.

    Raises
    ------
    DataError
        If it lies along axes that the variable does not have.
    """
    foreign = [d for d in condition.dimensions if d not in variable.dimensions]
    if foreign:
        raise DataError(
            f"--when: the condition lies along {', '.join(foreign)}, which {variable.name} does "
            "not have"
        )
    aligned = Aligned(
        condition.floats(), condition.dimensions, variable.dimensions, variable.shape
    )
    return Elementwise([variable.floats(), aligned], _broadcast)


def _broadcast(values: Array, condition: Array) -> Array:
    return np.broadcast_to(condition, values.shape)


@dataclass
class _Groups(SeriesKernel):
    """Means of two groups of times and the test of their difference."""

    axis: int
    steps: int
    conditions: int
    series: tuple[LazyArray, ...]
    permutations: int
    seed: int

    def needs(self) -> tuple[LazyArray, ...]:
        return self.series

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        names = ("chosen", "others", "difference", "chosen_count", "others_count")
        return dict.fromkeys((*names, "difference_pvalue"), ((), np.dtype("f8")))

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        values = block[: self.steps].astype(np.float64)
        chosen, others = self._flags(block)
        groups = compare_groups(values, chosen, others)
        mean = np.where(groups.number > 0, groups.mean, np.nan)
        if self.permutations:
            used = np.flatnonzero((chosen | others).reshape(self.steps, -1)[:, 0])
            flags = chosen.reshape(self.steps, -1)[used, 0]
            choices = shuffle_choices(flags, self.permutations, self.seed)
            pvalue = permutation_test(values[used], choices)
        else:
            pvalue = welch_test(groups)
        return {
            "chosen": mean[0],
            "others": mean[1],
            "difference": mean[0] - mean[1],
            "chosen_count": groups.number[0].astype(np.float64),
            "others_count": groups.number[1].astype(np.float64),
            "difference_pvalue": pvalue,
        }, Counter()

    def _flags(self, block: Array) -> tuple[Array, Array]:
        """Return which times are chosen and which are the others, for all cells or for each."""
        if self.series:
            shape = (-1, *(1,) * (block.ndim - 1))
            given = [
                s.read((slice(0, self.steps),)).reshape(shape) for s in self.series
            ]
        else:
            given = np.split(block[self.steps :], self.conditions)
        others = given[1] == 1 if len(given) == 2 else given[0] == 0
        return given[0] == 1, others


@dataclass(frozen=True, eq=False)
class _Sentence:
    """What there is to say of a single series."""

    variable: Variable
    results: tuple[Variable, ...]

    def text(self, engine: Engine) -> str:
        """Return the two means and how sure it is that they differ."""
        values = [float(v.values(engine).reshape(-1)[0]) for v in self.results[:6]]
        chosen, others, difference, count, rest, pvalue = values
        units = pretty(self.variable.units)
        difference_units = pretty(self.results[2].units)
        sign = "+" if difference >= 0 else ""
        return (
            f"{self.variable.name}: {write_rounded(chosen, 5)} {units} at {count:.0f} chosen "
            f"times, {write_rounded(others, 5)} {units} at {rest:.0f} others; difference "
            f"{sign}{write_rounded(difference, 4)} {difference_units}, {p_text(pvalue)}"
        )
