"""How one quantity goes with another: correlation, regression, and lags between them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Any, ClassVar, Self

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import (
    Array,
    Concatenated,
    Engine,
    InMemory,
    LazyArray,
    Mapped,
    Reduction,
    SeriesKernel,
)
from rhodolite.errors import DataError, UsageError
from rhodolite.kernels.correlation import correlate, rank_pairs
from rhodolite.kernels.gaps import spread_over_gaps
from rhodolite.kernels.polynomial_fit import fit_polynomial
from rhodolite.model.axes import Role
from rhodolite.model.cf.named_variables import placing_of
from rhodolite.model.dataset import Dataset
from rhodolite.model.typed_value import TypedValue
from rhodolite.model.units.conversion import Rescaling, of_differences
from rhodolite.model.units.udunits import quotient
from rhodolite.model.variable import UNITS_OF_ONE, Storage, Variable
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.pairing.cells import in_line, partner_of
from rhodolite.operations.pairing.times import MatchedTimes
from rhodolite.operations.parameters.cycle import Cycle
from rhodolite.operations.parameters.other_dataset import OtherDataset
from rhodolite.operations.trends.sentence import p_text
from rhodolite.operations.variables.along_time import time_axis_of, variables_along_time

_MOST_LAGS = 241
_FEWEST_PAIRS = 3
"""Of fewer, each correlation is 1 or -1."""


class Kind(StrEnum):
    """Which correlation."""

    PEARSON = "pearson"
    SPEARMAN = "spearman"


@dataclass(frozen=True)
class Lags(TypedValue):
    """Steps by which the other goes before: `3`, or all of `-6..6`."""

    first: int
    last: int

    @classmethod
    def parse(cls, text: str) -> Self:
        first, dots, last = text.partition("..")
        try:
            parsed = cls(int(first), int(last if dots else first))
        except ValueError:
            raise ValueError(
                f"'{text}' is not a number of steps; write 3, or -6..6 for all of these"
            ) from None
        if parsed.last < parsed.first or parsed.last - parsed.first >= _MOST_LAGS:
            raise ValueError(
                f"'{text}' runs backwards, or over more than {_MOST_LAGS} lags"
            )
        return parsed

    def __str__(self) -> str:
        return (
            str(self.first) if self.first == self.last else f"{self.first}..{self.last}"
        )

    @property
    def steps(self) -> list[int]:
        return list(range(self.first, self.last + 1))


@dataclass(frozen=True)
class Correlate(Operation):
    """Correlation with a series, or with another field cell by cell.

    Times are matched by the month, day or year that they represent. The p-value accounts for
    serial correlation through the effective sample size. Two series that both have a trend or
    an annual cycle are correlated for that reason alone: `--detrend` and `--cycle month` remove
    these first. With several lags the output has a lag axis, and the lag of the strongest
    correlation at each grid cell; at a positive lag the other series leads.

    Examples
    --------
    >>> Correlate(with_="index.csv", lag="-6..6", detrend=True)  # doctest: +SKIP
    """

    with_: OtherDataset | None = parameter(
        "the other file; FILE:NAME for one of several variables", example="FILE[:NAME]"
    )
    lag: Lags = parameter(
        "time steps by which the other series leads",
        default=Lags(0, 0),
        example="-6..6",
    )
    method: Kind = parameter("correlation coefficient", default=Kind.PEARSON)
    detrend: bool = parameter("remove a linear trend from both first", default=False)
    cycle: Cycle = parameter(
        "remove the mean cycle from both first: month, season, day or hour",
        default=Cycle.NONE,
        example="CYCLE",
    )

    prints_result: ClassVar[bool] = True
    """Whether the result of a single series is said in words."""

    @property
    def needs_all_members(self) -> bool:
        """Whether the other dataset is of members, which are matched by name."""
        return self.with_ is not None and self.with_.has_members

    def check(self) -> None:
        if self.with_ is None:
            raise UsageError(
                "correlate: with what? Add --with FILE, or --with FILE:NAME"
            )

    def sources(self) -> tuple[str, ...]:
        """See `Step.sources`."""
        return ("Bretherton and others 1999, Journal of Climate 12, 1990-2009",)

    def apply(self, dataset: Dataset) -> Dataset:
        """Return a dataset of correlations, without the time axis.

        Raises
        ------
        DataError
            If times, cells or calendars do not go together, or there are too few times.
        """
        assert self.with_ is not None
        other = self.with_.dataset
        matched = MatchedTimes.of(dataset, other)
        self._check_times(dataset, matched)
        along_time, others = variables_along_time(dataset)
        time = dataset.need(Role.TIME)
        lags = [] if len(self.lag.steps) == 1 else [_lag_axis(self.lag)]
        results: list[Variable] = []
        remarks = list(dataset.remarks)
        for variable in along_time:
            its = partner_of(variable, other, self.with_)
            correlations = self._correlations(dataset, variable, other, its, matched)
            results += correlations
            if variable.data.size == len(dataset.need_time()):
                remarks.append(_Sentence(self, variable, its, tuple(correlations)))
        remaining = [v for v in others if v.name != time.name]
        return dataset.with_variables(
            [*remaining, *lags, *results],
            remarks=tuple(remarks),
            unlimited=dataset.unlimited - {str(time.dimension)},
        )

    def _correlations(
        self,
        dataset: Dataset,
        variable: Variable,
        other: Dataset,
        its: Variable,
        matched: MatchedTimes,
    ) -> list[Variable]:
        along = time_axis_of(dataset, variable)
        reduction = self._reduce(dataset, variable, other, its, matched)
        cells = (*variable.shape[:along], *variable.shape[along + 1 :])
        dimensions = (*variable.dimensions[:along], *variable.dimensions[along + 1 :])
        lags = len(self.lag.steps)
        shape, dims = cells, dimensions
        if lags > 1:
            shape, dims = (lags, *cells), ("lag", *dimensions)
        placed = placing_of(variable)
        results = []
        for ending, about in self._describe(variable, its).items():
            data: LazyArray = reduction.output(ending, shape)
            scale = self._scale_of(ending, variable, its)
            if scale != 1.0:
                data = Mapped(data, Rescaling(scale, 0.0), "f8")
            name = f"{variable.name}_{ending}"
            # A p-value can be far smaller than single precision holds.
            kind = "f8" if ending.endswith("pvalue") else variable.precision
            storage = Storage(dtype=np.dtype(kind).name)
            results.append(Variable(name, dims, data, {**about, **placed}, storage))
        if lags > 1:
            pair = f"{variable.quantity} with {its.quantity}"
            about = {
                "long_name": f"lag of the strongest correlation of {pair}",
                "units": UNITS_OF_ONE,
                **placed,
            }
            data = reduction.output("lag", cells)
            results.append(Variable(f"{variable.name}_lag", dimensions, data, about))
        return results

    @staticmethod
    def _scale_of(ending: str, variable: Variable, its: Variable) -> float:
        """Return what brings a result into its units: a slope between temperatures is in kelvins,
        whatever scale they are on."""
        if ending != "regression":
            return 1.0
        return of_differences(variable.units)[0] / of_differences(its.units)[0]

    def _check_times(self, dataset: Dataset, matched: MatchedTimes) -> None:
        """Refuse lags of which none leaves times enough in common."""
        most = max(matched.pairs(lag)[0].size for lag in self.lag.steps)
        if most < _FEWEST_PAIRS:
            of_lags = "" if self.lag.steps == [0] else f" at lag {self.lag}"
            raise DataError(
                f"of the times of {dataset.label}, {self.with_} has only {most}{of_lags}; a "
                f"correlation needs at least {_FEWEST_PAIRS}"
            )

    def _reduce(
        self,
        dataset: Dataset,
        variable: Variable,
        other: Dataset,
        its: Variable,
        matched: MatchedTimes,
    ) -> Reduction:
        """Return the pass over a variable, and over the other where that is a field, too."""
        along = time_axis_of(dataset, variable)
        axis, its_axis = dataset.need_time(), other.need_time()
        source, series = variable.floats(), None
        if its.data.size == len(its_axis):
            series = its.floats()
        else:
            its = in_line(dataset, variable, other, its, Role.TIME, units=False)
            source = Concatenated([source, its.floats()], along)
        work = _Pairs(
            along,
            len(axis),
            series,
            [matched.pairs(lag) for lag in self.lag.steps],
            [matched.places(lag) for lag in self.lag.steps],
            self.method is Kind.SPEARMAN,
            (axis.decimal_years, its_axis.decimal_years) if self.detrend else None,
            (self.cycle.phases(axis), self.cycle.phases(its_axis)),
            np.array(self.lag.steps),
        )
        return Reduction(source, series=work)

    def _describe(self, variable: Variable, its: Variable) -> dict[str, dict[str, Any]]:
        """Return the attributes of each result, by the ending of its name."""
        pair = f"{variable.quantity} with {its.quantity}"
        rank = "rank " if self.method is Kind.SPEARMAN else ""
        about: dict[str, dict[str, Any]] = {
            "correlation": {
                "long_name": f"{rank}correlation of {pair}",
                "units": UNITS_OF_ONE,
                "comment": self._comment(),
                "ancillary_variables": f"{variable.name}_correlation_pvalue",
            },
            "correlation_pvalue": {
                "long_name": f"p-value of the {rank}correlation of {pair}",
                "units": UNITS_OF_ONE,
                "comment": "t test, effective sample size after Bretherton and others 1999",
            },
        }
        # Ranks have no slope in the units of the values.
        if not rank:
            units = quotient(variable.units or UNITS_OF_ONE, its.units or UNITS_OF_ONE)
            about["regression"] = {
                "long_name": f"regression of {variable.quantity} on {its.quantity}",
                "units": units,
            }
        return about

    def _comment(self) -> str:
        taken = [] if self.cycle == Cycle.NONE else [f"mean {self.cycle.word} cycle"]
        taken += ["linear trend"] if self.detrend else []
        before = f"; {' and '.join(taken)} taken out of both first" if taken else ""
        lag = (
            f"; the other goes {self.lag.first} steps before"
            if self.lag.first == self.lag.last != 0
            else ""
        )
        return f"{self.method} correlation{before}{lag}"


def _lag_axis(lags: Lags) -> Variable:
    return Variable(
        "lag",
        ("lag",),
        InMemory(np.array(lags.steps, np.float64)),
        {
            "long_name": "time steps by which the other series leads",
            "units": UNITS_OF_ONE,
        },
    )


@dataclass
class _Pairs(SeriesKernel):
    axis: int
    steps: int
    series: LazyArray | None
    pairs: list[tuple[NDArray[np.intp], NDArray[np.intp]]]
    places: list[NDArray[np.int64] | None]
    by_rank: bool
    years: tuple[Array, Array] | None
    phases: tuple[NDArray[np.int64], NDArray[np.int64]]
    lags: Array

    def needs(self) -> tuple[LazyArray, ...]:
        return () if self.series is None else (self.series,)

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        before = (len(self.lags),) if len(self.lags) > 1 else ()
        named = {
            name: (before, np.dtype("f8"))
            for name in ("correlation", "correlation_pvalue", "regression")
        }
        return {**named, "lag": ((), np.dtype("f8"))} if before else named

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        ours = self._prepare(block[: self.steps].astype(np.float64), 0)
        if self.series is not None:
            column = self.series.read(
                tuple(slice(0, n) for n in self.series.shape)
            ).astype(np.float64)
            column = self._prepare(column.reshape(-1, *(1,) * (block.ndim - 1)), 1)
            theirs = np.broadcast_to(column, (len(column), *block.shape[1:]))
        else:
            theirs = self._prepare(block[self.steps :].astype(np.float64), 1)
        rows = [
            self._of_lag(ours[i], theirs[j], places)
            for (i, j), places in zip(self.pairs, self.places, strict=True)
        ]
        names = ("correlation", "correlation_pvalue", "regression")
        by_name = {
            name: np.stack([row[at] for row in rows]) for at, name in enumerate(names)
        }
        if len(rows) == 1:
            return {name: values[0] for name, values in by_name.items()}, Counter()
        size = np.nan_to_num(np.abs(by_name["correlation"]), nan=-1.0)
        strongest = self.lags[size.argmax(axis=0)].astype(np.float64)
        by_name["lag"] = np.where(size.max(axis=0) < 0, np.nan, strongest)
        return by_name, Counter()

    def _of_lag(
        self, first: Array, second: Array, places: NDArray[np.int64] | None
    ) -> tuple[Array, ...]:
        if self.by_rank:
            first, second = rank_pairs(first, second)
        return correlate(
            spread_over_gaps(first, places), spread_over_gaps(second, places)
        )

    def _prepare(self, values: Array, side: int) -> Array:
        """Return values without their cycle and their line, where that is asked for."""
        phases = self.phases[side]
        if phases.max() > phases.min():
            for phase in np.unique(phases):
                members = phases == phase
                part = values[members]
                count = np.maximum((~np.isnan(part)).sum(axis=0), 1)
                values[members] = part - np.nansum(part, axis=0) / count
        if self.years is not None:
            values = fit_polynomial(self.years[side], values, 1).residuals
        return values


@dataclass(frozen=True, eq=False)
class _Sentence:
    correlate: Correlate
    variable: Variable
    its: Variable
    found: tuple[Variable, ...]

    def text(self, engine: Engine) -> str:
        """Say the correlation of two series, at the strongest lag if there are several."""
        values = {
            v.name.removeprefix(f"{self.variable.name}_"): v.values(engine).reshape(-1)
            for v in self.found
        }
        lags = self.correlate.lag.steps
        at = (
            lags.index(int(values["lag"][0]))
            if len(lags) > 1 and np.isfinite(values["lag"][0])
            else 0
        )
        r = float(values["correlation"][at])
        if np.isnan(r):
            return f"{self.variable.name} with {self.its.name}: no correlation could be estimated"
        lag = (
            f" at lag {lags[at]}, the strongest of {lags[0]} to {lags[-1]}"
            if len(lags) > 1
            else ""
        )
        text = f"{self.variable.name} with {self.its.name}: correlation {r:+.3f}"
        return f"{text}{lag}, {p_text(float(values['correlation_pvalue'][at]))}"
