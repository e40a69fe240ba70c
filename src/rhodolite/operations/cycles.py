"""The cycles that climate repeats, their phases, and the moments of each phase."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import StrEnum
from typing import Any, Self

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Accumulator, Array, Region
from rhodolite.errors import DataError, warn
from rhodolite.kernels.moments import Moments, grouped_moments, merge_moments, standard_deviation
from rhodolite.model.months import month_start
from rhodolite.model.periods import FOUR_SEASONS, MONTH_TITLES
from rhodolite.model.time import TimeAxis

Integers = NDArray[np.int64]


class Cycle(StrEnum):
    """What repeats from year to year."""

    MONTH = "month"
    SEASON = "season"

    @property
    def titles(self) -> tuple[str, ...]:
        """What people call the phases."""
        return MONTH_TITLES if self is Cycle.MONTH else tuple(str(season) for season in FOUR_SEASONS)

    @property
    def word(self) -> str:
        """The cycle as an adjective."""
        return {Cycle.MONTH: "monthly", Cycle.SEASON: "seasonal"}[self]

    def phases(self, axis: TimeAxis) -> Integers:
        """Return the phase of each step, counted from 0 (January, or December to February).

        Raises
        ------
        DataError
            If the data are too coarse in time to have the cycle.
        """
        longest = 1 if self is Cycle.MONTH else 3
        if axis.step.unit == "year" or (axis.step.unit == "month" and axis.step.count > longest):
            raise DataError(
                f"the data have one value {axis.step}; a cycle by {self.value} needs at least one a {self.value}"
            )
        return axis.months - 1 if self is Cycle.MONTH else axis.months % 12 // 3

    def limits(self, phase: int, year: int, calendar: str) -> tuple[Any, Any]:
        """Return the dates at which a phase begins and has ended, in the year that it belongs to."""
        if self is Cycle.MONTH:
            return month_start(year, phase + 1, calendar), month_start(year, phase + 2, calendar)
        return month_start(year, 3 * phase, calendar), month_start(year, 3 * phase + 3, calendar)


@dataclass
class PhaseMoments(Accumulator):
    """Mean and standard deviation of each phase at each cell.

    Parameters
    ----------
    label : str
        What the values are called in warnings.
    phases : ndarray of int, shape (n,)
        Phase of each step of the source.
    axis : int
        Where time lies in the source.
    shape : tuple of int
        Of the result: (phases, *cells).
    required : ndarray of float, shape (phases,)
        Fewest values that a phase needs at a cell; with less the result is missing.
    squares : bool
        Whether the standard deviation is wanted.
    divisor : {None, "mean", "deviation"}
        Which result will be divided by, so that zeros in it are counted in a warning.
    """

    label: str
    phases: Integers
    axis: int
    shape: tuple[int, ...]
    required: Array
    squares: bool = False
    divisor: str | None = None
    _state: Moments | None = None
    _held: Integers | None = None
    _cells: Region = ()

    def start(self) -> Self:
        return replace(self, _state=None, _held=None, _cells=())

    def add(self, block: Array, region: Region) -> None:
        phases = self.phases[region[self.axis]]
        held, groups = np.unique(phases, return_inverse=True)
        self._state = grouped_moments(np.moveaxis(block, self.axis, 0), groups, held.size, self.squares)
        self._held = held
        self._cells = region[: self.axis] + region[self.axis + 1 :]

    def merge(self, other: Self) -> None:
        if self._state is None:
            self._state = Moments.empty(self.shape, self.squares)
        assert other._state is not None
        assert other._held is not None
        merge_moments(self._state, other._state, other._held, other._cells)

    def finish(self) -> dict[str, Array]:
        state = self._state or Moments.empty(self.shape, self.squares)
        needed = self.required.reshape(-1, *(1,) * (len(self.shape) - 1))
        short = state.count < needed
        lost = int((short & (state.count > 0)).sum())
        if lost:
            warn(f"{self.label}: {lost:,} of {state.count.size:,} normals are missing, since too few values are there; "
                 "--min-coverage changes how many are needed")  # fmt: skip
        results = {"mean": np.where(short | (state.count == 0), np.nan, state.mean)}
        if self.squares:
            results["deviation"] = np.where(short, np.nan, standard_deviation(state))
        if self.divisor is not None and (zeros := int((results[self.divisor] == 0).sum())):
            what = "normals" if self.divisor == "mean" else "standard deviations"
            warn(f"{self.label}: {zeros:,} of {state.count.size:,} {what} are 0, and departures there are missing")
        return results
