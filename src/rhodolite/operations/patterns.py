"""The patterns that explain most of the variance of a field, with their series."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from rhodolite.arrays import (
    Array,
    Elementwise,
    InMemory,
    LazyArray,
    Mapped,
    Reduction,
    Stacked,
)
from rhodolite.errors import DataError, UsageError, warn
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.units.conversion import Rescaling
from rhodolite.model.variable import UNITS_OF_ONE, Storage, Variable
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.decomposition.field import PATTERN, Field
from rhodolite.operations.decomposition.passes import (
    CoupledVectors,
    Eigenvectors,
    Rotation,
    Turned,
)
from rhodolite.operations.pairing.cells import in_line, partner_of
from rhodolite.operations.pairing.times import MatchedTimes
from rhodolite.operations.parameters.other_dataset import OtherDataset
from rhodolite.operations.parameters.shares import check_coverage
from rhodolite.operations.selection.indices import take_steps
from rhodolite.operations.variables.along_time import (
    put_in_place,
    variables_along_time,
)

_PATTERNS_SOURCE = (
    "von Storch and Zwiers 1999, Statistical Analysis in Climate Research, 13-14"
)
_VARIMAX_SOURCE = "Kaiser 1958, Psychometrika 23, 187-200"
_MOST_TIMES = 6000
"""Whose products, a square of numbers, still fit into memory beside all else."""


class Matrix(StrEnum):
    """What is taken apart."""

    COVARIANCE = "covariance"
    CORRELATION = "correlation"


@dataclass(frozen=True)
class Patterns(Operation):
    """Patterns that explain most of the variance of a field, with their series and shares.

    Principal components (empirical orthogonal functions): cells are weighted by their area, and
    departures are from the mean of each cell over all times. Take the annual cycle out first
    (anomaly), or it is the first pattern. Series have a standard deviation of 1, and a pattern is
    the change of the field with it, in its units. The largest departure of each series is positive.
    Shares come with their sampling error (North and others 1982): patterns whose shares differ by
    less are not told apart. With `--with` the patterns are pairs of two fields that have the
    largest covariance (singular value analysis). `--rotate` turns the leading patterns by varimax,
    so that each is of fewer cells.

    Examples
    --------
    >>> Patterns(count=5, matrix="correlation")  # doctest: +SKIP
    """

    count: int = parameter("how many patterns", default=5)
    matrix: Matrix = parameter(
        "of departures as they are, or divided by their standard deviation",
        default=Matrix.COVARIANCE,
    )
    rotate: bool = parameter("turn the patterns by varimax", default=False)
    with_: OtherDataset | None = parameter(
        "another field, for patterns of both together", example="FILE[:NAME]"
    )
    min_coverage: float = parameter(
        "minimum fraction of the times that a cell must have (0 to 1)", default=1.0
    )

    def check(self) -> None:
        check_coverage(self.min_coverage)
        if self.count < 1:
            raise UsageError(f"--count {self.count}: write 1 or more")
        if self.rotate and (self.count < 2 or self.with_ is not None):
            raise UsageError(
                "--rotate turns two or more patterns of one field; it goes with --count 2 and "
                "more, and not with --with"
            )

    def sources(self) -> tuple[str, ...]:
        """See `Step.sources`."""
        turned = (_VARIMAX_SOURCE,) if self.rotate else ()
        return (_PATTERNS_SOURCE, *turned)

    def apply(self, dataset: Dataset) -> Dataset:
        """Return a dataset of patterns, their series and their shares.

        Raises
        ------
        DataError
            If there are no cells, too few or too many times, or the fields do not go together.
        """
        other = None if self.with_ is None else self.with_.dataset
        if other is not None:
            dataset, other = _at_the_same_times(dataset, other)
        axis = dataset.need_time()
        if not self.count < len(axis) <= _MOST_TIMES:
            few = len(axis) <= self.count
            advice = (
                "ask for fewer with --count" if few else "aggregate --to month first"
            )
            raise DataError(
                f"{dataset.label} has {len(axis):,} times; patterns are of more times than "
                f"patterns, and of {_MOST_TIMES:,} at most; {advice}"
            )
        along_time, _ = variables_along_time(dataset)
        results: dict[str, list[Variable]] = {}
        for variable in along_time:
            if variable.data.ndim < 2 or variable.data.size == len(axis):
                raise DataError(
                    f"{variable.name} is a single series, and has no patterns"
                )
            if other is None:
                results[variable.name] = self._of_one(dataset, variable)
            else:
                results[variable.name] = self._of_two(dataset, variable, other)
        numbers = np.arange(1, self.count + 1, dtype=np.float64)
        about = {"long_name": "pattern, by its share", "units": UNITS_OF_ONE}
        axis_of_patterns = Variable(PATTERN, (PATTERN,), InMemory(numbers), about)
        return dataset.with_variables(
            [*put_in_place(dataset, results), axis_of_patterns]
        )

    def _of_one(self, dataset: Dataset, variable: Variable) -> list[Variable]:
        part = self._field(dataset, variable)
        n = part.times
        vectors = Reduction(part.products(), Eigenvectors((n, n), self.count))
        series: LazyArray = vectors.output("series", (n, self.count))
        share: LazyArray = vectors.output("share", (self.count,))
        maps, loadings = part.maps(series)
        if self.rotate:
            turn = Reduction(loadings, Rotation(loadings.shape, self.count))
            rotation = turn.output("rotation", (self.count, self.count))
            series = Turned(series, rotation, last=True)
            maps = Turned(maps, rotation, last=False)
            whole_share = Mapped(share, np.asarray, "f8")
            share = Elementwise(
                [whole_share, turn.output("part", (self.count,))], _divide_anew
            )
        kind = "rotated pattern" if self.rotate else "pattern"
        name, kind = variable.name, "rotated pattern" if self.rotate else "pattern"
        words = f"share of the variance of {variable.quantity}"
        shares = [_percent(f"{name}_share", share, words)]
        if not self.rotate:
            shares.append(_sampling_error(f"{name}_share_error", shares[0], n))
        return [
            part.describe_map(f"{name}_pattern", maps, kind),
            part.describe_series(f"{name}_series", series, kind),
            *shares,
        ]

    def _of_two(
        self, dataset: Dataset, variable: Variable, other: Dataset
    ) -> list[Variable]:
        assert self.with_ is not None
        its = partner_of(variable, other, self.with_)
        theirs, on_one_grid = other, False
        try:
            its = in_line(dataset, variable, other, its, Role.TIME, units=False)
            theirs, on_one_grid = dataset, True
        except DataError:
            warn(
                f"{its.name} lies on another grid, so its maps are left out; patterns of "
                f"{other.label} --with {dataset.label} has them"
            )
        parts = (self._field(dataset, variable), self._field(theirs, its))
        n = parts[0].times
        products = Stacked([part.products() for part in parts])
        vectors = Reduction(products, CoupledVectors((2, n, n), self.count))
        shape = (n, self.count)
        kinds = [f"pattern with {part.variable.quantity}" for part in parts[::-1]]
        results: list[Variable] = []
        for part, side, kind in zip(parts, ("", "other_"), kinds, strict=True):
            series = vectors.output(f"{side}series", shape)
            name = f"{variable.name}_{side}"
            described = part.describe_series(f"{name}series", series, kind)
            if results:
                # Both run along the times of this dataset, whatever the other calls its own.
                described = described.replace(dimensions=results[0].dimensions)
            results.append(described)
            if on_one_grid or not side:
                maps, _ = part.maps(series)
                results.append(part.describe_map(f"{name}pattern", maps, kind))
        words = (
            f"share of the squared covariance of {variable.quantity} and {its.quantity}"
        )
        share = vectors.output("share", (self.count,))
        correlation = vectors.output("correlation", (self.count,))
        return [
            *results,
            _percent(f"{variable.name}_share", share, words),
            _of_patterns(
                f"{variable.name}_series_correlation",
                correlation,
                "correlation of the two series of each pattern",
            ),
        ]

    def _field(self, dataset: Dataset, variable: Variable) -> Field:
        standardised = self.matrix is Matrix.CORRELATION
        return Field(dataset, variable, self.count, standardised, self.min_coverage)


def _of_patterns(
    name: str, data: LazyArray, words: str, units: str = UNITS_OF_ONE
) -> Variable:
    """Return a variable of one number for each pattern."""
    about = {"long_name": words, "units": units}
    return Variable(name, (PATTERN,), data, about, Storage(dtype="float64"))


def _percent(name: str, share: LazyArray, words: str) -> Variable:
    return _of_patterns(name, Mapped(share, Rescaling(100.0, 0.0), "f8"), words, "%")


def _sampling_error(name: str, share: Variable, times: int) -> Variable:
    """Return by how much shares are uncertain, since the record is of so many times."""
    error = Mapped(share.data, Rescaling(float(np.sqrt(2 / times)), 0.0), "f8")
    result = _of_patterns(name, error, f"sampling error of the {share.quantity}", "%")
    rule = "share times sqrt(2 / n) of n independent times (North and others 1982)"
    return result.edit(comment=rule)


def _divide_anew(share: Array, part: Array) -> Array:
    """Return shares after a rotation, which divides their sum in other parts."""
    return np.asarray(np.nansum(share) * part)


def _at_the_same_times(dataset: Dataset, other: Dataset) -> tuple[Dataset, Dataset]:
    ours, theirs = MatchedTimes.of(dataset, other).pairs(0)
    return take_steps(dataset, ours), take_steps(other, theirs)
