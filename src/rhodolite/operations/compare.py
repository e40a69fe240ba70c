"""Two datasets side by side: by how much they differ, where, when and overall."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from rhodolite.arrays import Array, Combined, Concatenated, Engine, LazyArray, Mapped, Reduction, Selected, SeriesWork
from rhodolite.errors import DataError, UsageError
from rhodolite.kernels.correlation import correlate
from rhodolite.kernels.statistics import Spread
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.units import pretty
from rhodolite.model.variable import UNITS_OF_ONE, Storage, Variable
from rhodolite.operations.averaging import mean_over
from rhodolite.operations.declaration import operation, parameter
from rhodolite.operations.matching import counterpart, need_same_cells
from rhodolite.operations.normals import sort_by_time, time_place
from rhodolite.operations.others import Other
from rhodolite.operations.pairing import MatchedTimes
from rhodolite.operations.rescaling import Rescaling, of_differences, rescaling
from rhodolite.operations.selecting import take

_AREA = (Role.LATITUDE, Role.LONGITUDE)
_CELL = {
    "bias": "mean difference",
    "mean_absolute_error": "mean absolute difference",
    "root_mean_square_error": "root of the mean squared difference",
    "correlation": "correlation over time",
    "variance_ratio": "ratio of variances",
}


@operation
@dataclass(frozen=True)
class Compare:
    """The difference to another dataset: everywhere, by cell over time, by time over the area, and overall.

    Differences are this dataset less the other. Times are matched by the month, day or year that they
    stand for, units turned into those of this dataset; the cells have to be the same. Over the area cells
    weigh by their true size. A table of the whole is printed.

    Examples
    --------
    >>> Compare(with_="observed.nc")  # doctest: +SKIP
    """

    with_: Other | None = parameter("the other file or pattern", example="FILE")

    speaks: ClassVar[bool] = True
    """Whether there is something to say in words."""

    def check(self) -> None:
        if self.with_ is None:
            raise UsageError("compare: with what? Add --with FILE")

    def __call__(self, dataset: Dataset) -> Dataset:
        """Return a dataset of differences and what sums them up.

        Raises
        ------
        DataError
            If cells, times or units do not go together.
        """
        assert self.with_ is not None
        other = self.with_.dataset
        matched = MatchedTimes.of(dataset, other)
        ours, theirs = matched.pairs(0)
        part = take(dataset, {str(dataset.need(Role.TIME).dimension): ours})
        along_time, others = sort_by_time(part)
        time = str(part.need(Role.TIME).dimension)
        made: list[Variable] = []
        tables = []
        for variable in along_time:
            its = counterpart(variable, other)
            need_same_cells(dataset, variable, other, its, Role.TIME)
            if time_place(other, its) != time_place(part, variable):
                raise DataError(f"{its.name} of {other.label} has its time axis at another place than {variable.name}")
            second = _in_units_of(variable, its, theirs, time_place(other, its))
            pair = _Pair(part, variable, second, other.label)
            made += [pair.difference(), *pair.by_cell(), *pair.by_time()]
            tables.append(pair)
        axes = [v for v in part.variables.values() if v.name in part.axes.auxiliary or v.name == time]
        kept = {v.name: v for v in (*others, *axes)}
        return part.with_variables([*kept.values(), *made], remarks=tuple(tables))


def _in_units_of(variable: Variable, its: Variable, steps: Any, along: int) -> LazyArray:
    picks: list[Any] = [None] * len(its.shape)
    picks[along] = steps
    values: LazyArray = Selected(its.floats(), picks)
    if its.units == variable.units or not its.units or not variable.units:
        return values
    return Mapped(values, rescaling(its, variable.units), values.dtype)


@dataclass(frozen=True, eq=False)
class _Pair:
    """A variable and its counterpart, in the same units and at the same times."""

    dataset: Dataset
    variable: Variable
    second: LazyArray
    label: str

    def difference(self) -> Variable:
        """Return the difference everywhere."""
        storage = Storage(dtype=self.variable.storage.dtype, chunks=self.variable.storage.chunks)
        return self._made("difference", "difference", self.variable.dimensions, self._combined(np.subtract), storage)

    def by_cell(self) -> list[Variable]:
        """Return what sums up the differences at each cell over time."""
        along = time_place(self.dataset, self.variable)
        both = Concatenated([self.variable.floats(), self.second], along)
        reduction = Reduction(both, series=_OverTime(along))
        cells = (*self.variable.shape[:along], *self.variable.shape[along + 1 :])
        dimensions = (*self.variable.dimensions[:along], *self.variable.dimensions[along + 1 :])
        return [self._made(name, words, dimensions, reduction.output(name, cells)) for name, words in _CELL.items()]

    def by_time(self) -> list[Variable]:
        """Return what sums up the differences over the area at each time."""
        if not any(self.dataset.coordinate(role) is not None for role in _AREA):
            return []
        means = self._means(_AREA)
        shape = means["difference"].shape
        if len(shape) == len(self.variable.shape):
            return []
        dimensions = means["difference"].dimensions
        pattern = Combined(
            [means[name].data for name in ("first", "second", "first2", "second2", "product")], _pattern_correlation
        )
        return [
            self._made("bias_over_area", "area mean of the difference", dimensions, means["difference"].data),
            self._made("error_over_area", "root of the area mean of the squared difference", dimensions,
                       Mapped(means["square"].data, np.sqrt, "f8")),
            self._made("pattern_correlation", "correlation over the area", dimensions, pattern),
        ]  # fmt: skip

    def text(self, engine: Engine) -> str:
        """Return a table of all differences together."""
        means = {name: float(mean.values(engine).reshape(-1).mean())
                 for name, mean in self._means((Role.TIME, *_AREA, Role.LEVEL)).items()}  # fmt: skip
        units = pretty(self._units("bias"))
        spread = [means[f"{name}2"] - means[name] ** 2 for name in ("first", "second")]
        r = _pattern_correlation(*(np.array(means[n]) for n in ("first", "second", "first2", "second2", "product")))
        rows = [
            ("mean of this", means["first"], pretty(self.variable.units)),
            ("mean of the other", means["second"], pretty(self.variable.units)),
            ("bias", means["difference"], units),
            ("mean absolute error", means["absolute"], units),
            ("root-mean-square error", np.sqrt(means["square"]), units),
            ("correlation", float(r), ""),
            ("ratio of variances", spread[0] / spread[1] if spread[1] > 0 else np.nan, ""),
        ]
        title = f"{self.variable.name}: {self.dataset.label} less {self.label}, {len(self.dataset.need_time()):,} times"
        lines = [f"  {words:<24}{value:>12.5g} {unit}".rstrip() for words, value, unit in rows]
        return "\n".join([title, *lines])

    def _means(self, roles: tuple[Role, ...]) -> dict[str, Variable]:
        both = {
            "difference": np.subtract, "absolute": _absolute, "square": _square, "first": _first, "second": _second,
            "first2": _first_squared, "second2": _second_squared, "product": np.multiply,
        }  # fmt: skip
        return {name: mean_over(self.dataset, self.variable.with_(data=self._combined(function), missing=None), roles)
                for name, function in both.items()}  # fmt: skip

    def _combined(self, function: Any) -> LazyArray:
        return Combined([self.variable.floats(), self.second], _AlikeMissing(function))

    def _units(self, ending: str) -> str | None:
        if ending in ("correlation", "variance_ratio", "pattern_correlation"):
            return UNITS_OF_ONE
        return of_differences(self.variable.units)[1]

    def _made(self, ending: str, words: str, dimensions: tuple[str, ...], data: LazyArray,
              storage: Storage | None = None) -> Variable:  # fmt: skip
        kept = {key: value for key, value in self.variable.attributes.items() if key in ("grid_mapping", "coordinates")}
        units = self._units(ending)
        factor = of_differences(self.variable.units)[0]
        if factor != 1.0 and units != UNITS_OF_ONE:
            data = Mapped(data, Rescaling(factor, 0.0), "f8")
        about = {"long_name": f"{words} of {self.variable.quantity} to {self.label}",
                 **({"units": units} if units else {}), **kept}  # fmt: skip
        if ending == "difference" and self.variable.units and "K" in self.variable.units.split():
            about["units_metadata"] = "temperature: difference"
        storage = storage or Storage(dtype=self.variable.storage.dtype)
        return Variable(f"{self.variable.name}_{ending}", dimensions, data, about, storage)


@dataclass
class _OverTime(SeriesWork):
    axis: int

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        return {name: ((), np.dtype("f8")) for name in _CELL}

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        half = len(block) // 2
        first, second = (part.astype(np.float64) for part in (block[:half], block[half:]))
        missing = np.isnan(first) | np.isnan(second)
        first[missing] = second[missing] = np.nan
        difference = first - second
        count = (~missing).sum(axis=0)
        absolute, square, total = (np.nansum(part, axis=0) for part in (np.abs(difference), difference**2, difference))
        held = np.where(count > 0, count, np.nan)
        one_group = np.zeros(half, int)
        ours, theirs = (Spread().finish(Spread().gather(part, one_group, 1))["variance"][0] for part in (first, second))
        ratio = np.divide(ours, theirs, out=np.full(count.shape, np.nan), where=theirs > 0)
        return {"bias": total / held, "mean_absolute_error": absolute / held,
                "root_mean_square_error": np.sqrt(square / held), "correlation": correlate(first, second)[0],
                "variance_ratio": ratio}, Counter()  # fmt: skip


@dataclass(frozen=True)
class _AlikeMissing:
    """A function of two blocks that is missing where either of them is."""

    function: Any

    def __call__(self, first: Array, second: Array) -> Array:
        made = self.function(first.astype(np.float64), second.astype(np.float64))
        return np.asarray(np.where(np.isnan(first) | np.isnan(second), np.nan, made))


def _absolute(first: Array, second: Array) -> Array:
    return np.asarray(np.abs(first - second))


def _square(first: Array, second: Array) -> Array:
    return (first - second) ** 2


def _first(first: Array, second: Array) -> Array:  # noqa: ARG001
    return first


def _second(first: Array, second: Array) -> Array:  # noqa: ARG001
    return second


def _first_squared(first: Array, second: Array) -> Array:  # noqa: ARG001
    return first * first


def _second_squared(first: Array, second: Array) -> Array:  # noqa: ARG001
    return second * second


def _pattern_correlation(first: Array, second: Array, first2: Array, second2: Array, product: Array) -> Array:
    """Return the correlation from means of two quantities, of their squares and of their product."""
    spread = (first2 - first**2) * (second2 - second**2)
    return np.asarray(np.divide(product - first * second, np.sqrt(np.maximum(spread, 0)),
                                out=np.full(np.shape(spread), np.nan), where=spread > 0))  # fmt: skip
