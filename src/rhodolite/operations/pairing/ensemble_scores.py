"""Scores of an ensemble against one dataset, and quantiles of two side by side."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from rhodolite.arrays import (
    Array,
    Concatenated,
    Engine,
    InMemory,
    LazyArray,
    Mapped,
    Reduction,
    Selected,
    SeriesKernel,
    WithoutAxis,
)
from rhodolite.errors import DataError
from rhodolite.kernels.ensemble_scores import score_ensemble
from rhodolite.kernels.order_statistics import percentile
from rhodolite.model.cf.named_variables import drop_astray, placing_of
from rhodolite.model.dataset import Dataset
from rhodolite.model.ensemble import member_dimension
from rhodolite.model.units.conversion import Rescaling, of_differences
from rhodolite.model.units.differences import describe_units
from rhodolite.model.units.udunits import pretty
from rhodolite.model.variable import UNITS_OF_ONE, Storage, Variable
from rhodolite.operations.axis_reduction.area_mean import area_mean
from rhodolite.operations.time_groups.totals import mean_weights
from rhodolite.operations.variables.along_time import time_axis_of
from rhodolite.plain_text import write_rounded

RANK, QUANTILE = "rank", "quantile"
_SHARES = (0.01, 0.05, *np.arange(0.1, 0.95, 0.1).round(1).tolist(), 0.95, 0.99)
_SCORES = {
    "crps": "continuous ranked probability score",
    "spread": "spread of the members",
    "error": "root-mean-square error of the mean of the members",
}


@dataclass(frozen=True, eq=False)
class ScoredEnsemble:
    """The members of a variable and the observations at the same times."""

    dataset: Dataset
    variable: Variable
    observed: LazyArray
    label: str

    def variables(self) -> list[Variable]:
        """Return the scores at each cell, and how often each rank was taken.

        Raises
        ------
        DataError
            If there are no members or no times.
        """
        along = time_axis_of(self.dataset, self.variable)
        members = self._members()
        axis = self.dataset.need_time()
        lengths = mean_weights(self.variable, axis)
        work = _Scores(along - (self._at < along), len(members), lengths)
        observed = _without(self.observed, self._at)
        source = Concatenated([*members, observed], work.axis)
        reduction = Reduction(source, series=work)
        dropped = {along, self._at}
        remaining = [at for at in range(self.variable.data.ndim) if at not in dropped]
        dims = tuple(self.variable.dimensions[at] for at in remaining)
        cells = tuple(self.variable.shape[at] for at in remaining)
        results = [
            self._score(ending, words, dims, reduction.output(ending, cells))
            for ending, words in _SCORES.items()
        ]
        count = len(members) + 1
        ranks = reduction.output("ranks", (count, *cells))
        about = {
            "long_name": f"how often so many members of {self.variable.quantity} lay below the "
            "observation",
            "units": UNITS_OF_ONE,
            **placing_of(self.variable),
        }
        numbers = InMemory(np.arange(count, dtype=np.float64))
        words = {"long_name": "members below the observation", "units": UNITS_OF_ONE}
        counted = Variable(f"{self.variable.name}_ranks", (RANK, *dims), ranks, about)
        return [
            *(drop_astray(result, self.dataset.variables) for result in results),
            Variable(RANK, (RANK,), numbers, words),
            drop_astray(counted, self.dataset.variables),
        ]

    @property
    def _at(self) -> int:
        """Which axis is of the members."""
        dimension = member_dimension(self.dataset)
        if dimension not in self.variable.dimensions:
            raise DataError(
                f"{self.variable.name} has no members; name their files with --members"
            )
        return self.variable.dimensions.index(dimension)

    def _members(self) -> list[LazyArray]:
        return [
            _without(self.variable.floats(), self._at, number)
            for number in range(self.variable.shape[self._at])
        ]

    def _score(
        self, ending: str, words: str, dims: tuple[str, ...], data: LazyArray
    ) -> Variable:
        factor, units = of_differences(self.variable.units)
        if factor != 1.0:
            data = Mapped(data, Rescaling(factor, 0.0), "f8")
        about: dict[str, Any] = {
            "long_name": f"{words} of {self.variable.quantity} against {self.label}",
            **placing_of(self.variable),
        }
        about |= describe_units(units, difference=True)
        name = f"{self.variable.name}_{ending}"
        return Variable(name, dims, data, about, Storage(dtype="float64"))


@dataclass(frozen=True, eq=False)
class EnsembleTable:
    """What is printed of the scores of an ensemble."""

    dataset: Dataset
    variable: Variable
    label: str
    scores: tuple[Variable, ...]

    def text(self, engine: Engine) -> str:
        """Return the scores over the area, and the share of each rank."""
        *parts, _, ranks = self.scores
        count = ranks.shape[0] - 1
        lines = [f"{self.variable.name}: {count} members against {self.label}"]
        units = pretty(parts[0].units)
        means = {}
        for part, words in zip(parts, _SCORES.values(), strict=True):
            values = engine.compute(part.data)
            means[words] = area_mean(self.dataset, part, values, part.dimensions)
            lines.append(
                f"  {words:<50}{write_rounded(means[words], 5):>12} {units}".rstrip()
            )
        spread, error = list(means.values())[1:]
        corrected = spread * np.sqrt((count + 1) / count)
        lines.append(
            f"  {'spread, for so many members, over error':<50}{corrected / error:>12.5g}"
        )
        numbers = engine.compute(ranks.data).reshape(count + 1, -1).sum(axis=1)
        shares = " ".join(f"{100 * n / numbers.sum():.3g}" for n in numbers)
        lines.append(f"  share of each rank, from the lowest (%): {shares}")
        return "\n".join(lines)


@dataclass
class _Scores(SeriesKernel):
    axis: int
    members: int
    lengths: Array | None

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        kind = np.dtype("f8")
        scores = dict.fromkeys(_SCORES, ((), kind))
        return {**scores, "ranks": ((self.members + 1,), kind)}

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        parts = block.reshape(self.members + 1, -1, *block.shape[1:])
        scores = score_ensemble(
            parts[:-1].astype(np.float64), parts[-1].astype(np.float64), self.lengths
        )
        return scores._asdict(), Counter()


def _without(array: LazyArray, axis: int, number: int = 0) -> LazyArray:
    """Return one of the members, without their axis."""
    picks: list[Array | None] = [None] * array.ndim
    picks[axis] = np.array([number])
    return WithoutAxis(Selected(array, picks), axis)


def quantile_pairs(
    dataset: Dataset, variable: Variable, second: LazyArray, label: str
) -> list[Variable]:
    """Return the quantiles of two variables at each cell over time, side by side.

    Parameters
    ----------
    dataset : Dataset
    variable : Variable
    second : LazyArray
        The other, of the same shape and units.
    label : str
        Of the other dataset.
    """
    along = time_axis_of(dataset, variable)
    remaining = [at for at in range(variable.data.ndim) if at != along]
    dims = (QUANTILE, *(variable.dimensions[at] for at in remaining))
    shape = (len(_SHARES), *(variable.shape[at] for at in remaining))
    given = variable.attributes
    about = {k: v for k, v in given.items() if k in ("units", "units_metadata")}
    about |= placing_of(variable)
    results = [
        Variable(
            QUANTILE,
            (QUANTILE,),
            InMemory(np.array(_SHARES)),
            {"long_name": "share of the values below", "units": UNITS_OF_ONE},
        )
    ]
    both = Concatenated([variable.floats(), second], along)
    reduction = Reduction(both, series=_Quantiles(along))
    for name, words in (("quantiles", variable.quantity), ("other_quantiles", label)):
        data = reduction.output(name, shape)
        titled = {"long_name": f"quantiles of {words} over time", **about}
        storage = Storage(dtype=variable.storage.dtype)
        result = Variable(f"{variable.name}_{name}", dims, data, titled, storage)
        results.append(drop_astray(result, dataset.variables))
    return results


@dataclass
class _Quantiles(SeriesKernel):
    axis: int

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        shape = ((len(_SHARES),), np.dtype("f8"))
        return {"quantiles": shape, "other_quantiles": shape}

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        first, second = np.split(block.astype(np.float64), 2)
        missing = np.isnan(first) | np.isnan(second)
        first[missing] = second[missing] = np.nan
        return {
            name: np.stack([percentile(part, share) for share in _SHARES])
            for name, part in (("quantiles", first), ("other_quantiles", second))
        }, Counter()
