"""Times chosen by what a series, or the data themselves, did then."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Self

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array, InMemory, read_small
from rhodolite.errors import DataError, UsageError, warn
from rhodolite.kernels.thresholds import in_precision
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.time_units import DAY_TICKS
from rhodolite.model.typed_value import FileReader, FileValue
from rhodolite.model.units.typed_numbers import read_number
from rhodolite.model.variable import Variable
from rhodolite.operations.expressions.calculation import calculate
from rhodolite.operations.expressions.elements import COMPARISONS
from rhodolite.operations.expressions.parser import Formula
from rhodolite.operations.pairing.times import MatchedTimes
from rhodolite.operations.parameters.other_dataset import OtherDataset
from rhodolite.operations.parameters.threshold import Threshold

_RANKED = re.compile(r"(highest|lowest)\s+(\d+)(?:\s+of\s+(\S.*))?")
_COMPARED = re.compile(r"(.*?)\s*(<=|>=|==|!=|<|>)(.*)")
_LONGER = 1.05
_FILE = re.compile(r".*(?:\.[A-Za-z]\w*|:\w+)")


@dataclass(frozen=True)
class Test:
    """What the values of a series have to be.

    Attributes
    ----------
    sign : str
        A comparison, or ``highest`` or ``lowest``.
    number : float
        A threshold, or how many values are chosen.
    units : str
        Of the threshold; those of the series where it has none.
    """

    sign: str
    number: float
    units: str = ""

    @property
    def ranks(self) -> bool:
        return self.sign in ("highest", "lowest")

    def of(self, series: Variable, values: Array) -> NDArray[np.bool_]:
        """Return which values of a series fulfil it; missing ones do not."""
        known = ~np.isnan(values)
        if self.ranks:
            return self._outermost(values, known)
        threshold = Threshold(self.number, self.units).within(series, "--when")
        left, right = (
            in_precision(part, series.precision) for part in (values, threshold)
        )
        return np.asarray(COMPARISONS[self.sign](left, right) & known)

    def _outermost(self, values: Array, known: Array) -> NDArray[np.bool_]:
        """Return the highest or lowest values; of equal ones the earlier."""
        count = int(self.number)
        if known.sum() < count:
            raise DataError(
                f"--when {self.sign} {count}: only {known.sum():,} values lie at times of the data"
            )
        order = np.argsort(-values if self.sign == "highest" else values, kind="stable")
        chosen = np.zeros(len(values), dtype=bool)
        chosen[order[:count]] = True
        return chosen


@dataclass(frozen=True)
class TimesWhere(FileValue):
    """A condition: `oni.csv:oni > 0.5`, `lowest 5 of rain.csv`, `mean(tas, area) > 290[K]`.

    Without a file, `> 0.5` and `lowest 5` are of the file that another option names.

    Attributes
    ----------
    text : str
    subject : OtherDataset, optional
        The series, where the text names it.
    test : Test, optional
        What its values have to be.
    formula : Formula, optional
        A condition on the data themselves.
    """

    text: str
    subject: OtherDataset | None = None
    test: Test | None = None
    formula: Formula | None = None

    @classmethod
    def parse(cls, text: str) -> Self:
        plain = text.strip()
        if match := _RANKED.fullmatch(plain):
            subject = OtherDataset.parse(match.group(3)) if match.group(3) else None
            return cls(plain, subject, Test(match.group(1), float(match.group(2))))
        if (compared := _read_comparison(plain)) is not None:
            return cls(plain, *compared)
        try:
            return cls(plain, formula=Formula.parse(plain))
        except ValueError:
            raise ValueError(
                f"'{text}' is no condition; write 'oni.csv:oni > 0.5', 'lowest 5 of rain.csv', or "
                "a formula on the data, such as 'mean(tas, area) > 290[K]'"
            ) from None

    @property
    def is_loaded(self) -> bool:
        return self.subject is None or self.subject.is_loaded

    def loaded(self, reader: FileReader) -> Self:
        if self.subject is None:
            return self
        return replace(self, subject=self.subject.loaded(reader))

    def names_of_files(self) -> tuple[str, ...]:
        """See `FileValue.names_of_files`."""
        return () if self.subject is None else (self.subject.location,)

    def renamed(self, rename: Callable[[str], str]) -> Self:
        """See `FileValue.renamed`."""
        if self.subject is None:
            return self
        old = self.subject.location
        return type(self).parse(self.text.replace(old, rename(old), 1))

    def __str__(self) -> str:
        return self.text

    def series(
        self, dataset: Dataset, beside: OtherDataset | None
    ) -> NDArray[np.float64]:
        """Return for each time of a dataset 1 where it is chosen, 0 where not, and NaN where the
        series has no value.

        Parameters
        ----------
        dataset : Dataset
        beside : OtherDataset, optional
            The series, where the text does not name it.

        Raises
        ------
        UsageError
            If there is no series, or two.
        DataError
            If it has no time in common with the data.
        """
        assert self.test is not None
        if (self.subject is None) == (beside is None):
            what = "no series is named" if beside is None else "two series are named"
            raise UsageError(
                f"--when '{self.text}': {what}; write 'FILE:NAME > 0.5', or '> 0.5' and --with "
                "FILE:NAME"
            )
        other = self.subject or beside
        assert other is not None
        series = _series_of(other)
        ours, theirs = _pairs(dataset, other.dataset)
        values = read_small(series.floats()).astype(np.float64).reshape(-1)
        met = self.test.of(series, np.where(_used(theirs, values), values, np.nan))
        result = np.full(len(dataset.need_time()), np.nan)
        result[ours] = np.where(np.isnan(values[theirs]), np.nan, met[theirs])
        return result

    def condition(self, dataset: Dataset, beside: OtherDataset | None) -> Variable:
        """Return a variable of 1 where times are chosen, 0 where not, and NaN where that is not
        known: along time, or for each cell by itself.

        Raises
        ------
        UsageError, DataError
            As `series`, or if a formula cannot be computed.
        """
        if self.formula is None:
            along = (str(dataset.need(Role.TIME).dimension),)
            return Variable("chosen", along, InMemory(self.series(dataset, beside)))
        if beside is not None:
            raise UsageError(
                f"--when '{self.text}' is a formula on the data, and takes no --with"
            )
        return calculate(dataset, self.formula.tree, "chosen", self.text)


def _read_comparison(text: str) -> tuple[OtherDataset | None, Test] | None:
    """Return the series in a file and what its values have to be; None where the text is a formula
    on the data."""
    match = _COMPARED.fullmatch(text)
    if match is None:
        return None
    series, sign, typed = match.groups()
    threshold = read_number(typed)
    if threshold is None or (series and not _FILE.fullmatch(series)):
        return None
    subject = OtherDataset.parse(series) if series else None
    return subject, Test(sign, *threshold)


def _used(theirs: NDArray[np.intp], values: Array) -> NDArray[np.bool_]:
    """Return which values of a series lie at times of the data."""
    used = np.zeros(len(values), dtype=bool)
    used[theirs] = True
    return used


def _series_of(other: OtherDataset) -> Variable:
    """Return the variable of a file that is a single series."""
    dataset = other.dataset
    if other.variable is not None:
        series = dataset[other.variable]
    else:
        fields = [v for v in dataset.fields if v.numeric]
        if len(fields) != 1:
            names = ", ".join(v.name for v in fields)
            raise DataError(
                f"--when: {other} holds several variables; write {other}:NAME, of {names}"
            )
        series = fields[0]
    if series.data.size != len(dataset.need_time()):
        raise DataError(
            f"--when: {other} has cells besides times, and one series is needed; summarise first"
        )
    return series


def _pairs(
    dataset: Dataset, other: Dataset
) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    """Return steps of the data, and for each the step of the series that it lies in."""
    ours, theirs = dataset.need_time(), other.need_time()
    first, second = ours.resolution, theirs.resolution
    cells = theirs.cell_ticks
    alike = (first.unit, first.count) == (second.unit, second.count)
    if alike or cells is None or ours.calendar != theirs.calendar:
        return MatchedTimes.of(dataset, other).pairs(0)
    lengths = ours.lengths
    if (
        lengths is not None
        and lengths.min() > _LONGER * np.diff(cells).max() / DAY_TICKS
    ):
        raise DataError(
            f"{dataset.label} has one value {first} and {other.label} {second}, of which there are "
            f"several in each; bring the series to the same steps first, such as aggregate --to "
            f"{first.unit}"
        )
    # A series of years or months says something of all days within them.
    order = np.argsort(cells[:, 0], kind="stable")
    middles = ours.middle_ticks
    at = np.searchsorted(cells[order, 0], middles, side="right") - 1
    inside = np.flatnonzero((at >= 0) & (middles < cells[order[at], 1]))
    if not inside.size:
        raise DataError(
            f"{dataset.label} ({ours.span}, {first}) has no time within one of {other.label} "
            f"({theirs.span}, {second})"
        )
    if inside.size < len(ours):
        warn(
            f"{len(ours) - inside.size:,} of {len(ours):,} times of {dataset.label} have no "
            "counterpart and are left out"
        )
    return inside, order[at[inside]]
