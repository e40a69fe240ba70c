"""Statistics over a window that moves along time."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import FirstAxisMoved, Mapped, Reduction
from rhodolite.errors import DataError, UsageError, warn
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.period_numbers import number_periods
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.units.conversion import Rescaling, of_differences
from rhodolite.model.units.differences import describe_units
from rhodolite.model.variable import Variable
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.pairing.times import place_evenly
from rhodolite.operations.parameters.shares import check_coverage
from rhodolite.operations.parameters.statistic import MEAN, OFFERED, Measure, Measures
from rhodolite.operations.parameters.window_width import WindowWidth
from rhodolite.operations.time_groups.filters import Band, Filtered
from rhodolite.operations.time_groups.moving_windows import MovingWindows
from rhodolite.operations.time_groups.result_attributes import describe_statistic
from rhodolite.operations.time_groups.several_statistics import each_statistic
from rhodolite.operations.time_groups.totals import TotalRule, adding, mean_weights
from rhodolite.operations.variables.along_time import (
    put_in_place,
    time_axis_of,
    variables_along_time,
)

_LANCZOS_SOURCE = "Duchon 1979, Journal of Applied Meteorology 18, 1016-1022"
_OF_TWO = ("mean", "sum")
"""Statistics that can be the middle of those of two windows."""
Indices = NDArray[np.intp]


class Align(StrEnum):
    """Where in its window a step lies."""

    CENTRE = "centre"
    START = "start"
    END = "end"


@dataclass(frozen=True)
class Window(Operation):
    """Running means, sums and other statistics over a window that moves along time.

    Every step gets the statistic of the steps in the window around it, or, with `--align end`, of
    those up to it. Means count steps by their length and sums turn rates into amounts, as in
    `aggregate`. Where the window reaches beyond the data, or lacks steps, the result is missing,
    unless `--min-coverage` asks for less than all of it. A window of an even number of steps has no
    middle step: centred means and sums are then those of one more step, of which the first and the
    last count half; other statistics need an odd number, or another `--align`.

    `--longer-than 10years` keeps slow variations (low-pass), `--shorter-than` quick ones
    (high-pass), and both together those between (band-pass), by Lanczos weights over twice the
    longer of the two, or over `--width`.

    Examples
    --------
    >>> Window(width="12months", statistic="mean")  # doctest: +SKIP
    """

    width: WindowWidth | None = parameter(
        "length of the window", example="5days|12months|31"
    )
    statistic: Measures = parameter(
        OFFERED,
        default=MEAN,
        example="NAME,...",
    )
    align: Align = parameter("where in its window a step lies", default=Align.CENTRE)
    longer_than: WindowWidth | None = parameter(
        "keep variations that take longer than this (low-pass)", example="10years"
    )
    shorter_than: WindowWidth | None = parameter(
        "keep variations that take less than this (high-pass)", example="8years"
    )
    min_coverage: float = parameter(
        "minimum fraction of the steps of a window that must be there (0 to 1)",
        default=1.0,
    )

    @property
    def measure(self) -> Measure:
        """The statistic, of several the first."""
        return self.statistic.first

    def check(self) -> None:
        check_coverage(self.min_coverage)
        if self._filters:
            if self.statistic != MEAN or self.align is not Align.CENTRE:
                raise UsageError(
                    "--longer-than and --shorter-than are weighted means about the middle; they "
                    "do not go with --statistic or --align"
                )
            return
        if self.width is None:
            raise UsageError("window: how long? Add --width, such as --width 12months")

    @property
    def _filters(self) -> bool:
        return self.longer_than is not None or self.shorter_than is not None

    def sources(self) -> tuple[str, ...]:
        """See `Step.sources`."""
        filters = self.longer_than is not None or self.shorter_than is not None
        return (_LANCZOS_SOURCE,) if filters else super().sources()

    def apply(self, dataset: Dataset) -> Dataset:
        """Return a dataset of statistics of windows, on the grid and times of the input.

        Raises
        ------
        DataError
            If there is no time axis, or the window is no whole number of steps.
        """
        if len(self.statistic.measures) > 1:
            return each_statistic(self, dataset)
        axis = dataset.need_years(
            "whose last step is followed by the first; climatology --smooth 3 smooths them round "
            "the year"
        )
        if self._filters:
            return self._filtered(dataset, axis)
        assert self.width is not None
        length = self.width.steps(axis)
        if length > len(axis):
            raise DataError(
                f"--width {self.width}: the window holds {length:,} steps, and the data only "
                f"{len(axis):,}"
            )
        reaches = self._reaches(length)
        along_time, _ = variables_along_time(dataset)
        results = {
            variable.name: [self._moved(dataset, variable, axis, length, reaches)]
            for variable in along_time
        }
        return dataset.with_variables(put_in_place(dataset, results))

    def _filtered(self, dataset: Dataset, axis: TimeAxis) -> Dataset:
        """Return the variations within a band of periods."""
        band = self._band(axis)
        if 2 * band.half + 1 > len(axis):
            raise DataError(
                f"the filter holds {2 * band.half + 1:,} steps, and the data only {len(axis):,}; "
                f"--width {(len(axis) // 3) | 1} makes it shorter and less sharp"
            )
        along_time, _ = variables_along_time(dataset)
        results = {v.name: [self._in_band(dataset, v, axis, band)] for v in along_time}
        return dataset.with_variables(put_in_place(dataset, results))

    def _band(self, axis: TimeAxis) -> Band:
        longer, shorter = (
            None if asked is None else float(asked.steps(axis))
            for asked in (self.longer_than, self.shorter_than)
        )
        if longer is not None and shorter is not None and longer >= shorter:
            raise DataError(
                f"--longer-than {self.longer_than} --shorter-than {self.shorter_than}: no "
                "variation is both; exchange them"
            )
        cutoffs = [cutoff for cutoff in (longer, shorter) if cutoff is not None]
        if min(cutoffs) < 2:
            raise DataError(
                "a variation takes two steps at least; a shorter one cannot be told from others"
            )
        half = int(max(cutoffs))
        if self.width is not None:
            half = max(self.width.steps(axis) // 2, 1)
        return Band(longer, shorter, half)

    def _in_band(
        self, dataset: Dataset, variable: Variable, axis: TimeAxis, band: Band
    ) -> Variable:
        along = time_axis_of(dataset, variable)
        places = place_evenly(axis)
        work = Filtered(variable.name, along, places, band, self.min_coverage)
        first = (len(axis), *variable.shape[:along], *variable.shape[along + 1 :])
        data: Any = Reduction(variable.floats(), series=work).output("value", first)
        data = FirstAxisMoved(data, along)
        limits = [
            f"{word} than {asked.words}"
            for word, asked in (
                ("longer", self.longer_than),
                ("shorter", self.shorter_than),
            )
            if asked is not None
        ]
        about: dict[str, Any] = {
            "long_name": f"variations of {variable.quantity} that take {' and '.join(limits)}",
            "comment": f"Lanczos filter of {2 * band.half + 1} steps (Duchon 1979)",
        }
        if not band.departs:
            return variable.derive(data).edit(**about)
        factor, units = of_differences(variable.units)
        if factor != 1.0:
            data = Mapped(data, Rescaling(factor, 0.0), "f8")
        about |= describe_units(units, difference=True)
        changed = variable.derive(data).edit("standard_name", "units_metadata")
        return changed.edit(**about)

    def _reaches(self, length: int) -> list[tuple[int, int]]:
        """Return how many steps before and after a step its window holds; of two windows, whose
        middle it is, where one has no middle step."""
        if self.align is Align.END:
            return [(length - 1, 0)]
        if self.align is Align.START:
            return [(0, length - 1)]
        half = length // 2
        if length % 2:
            return [(half, half)]
        if self.measure.kind not in _OF_TWO:
            raise DataError(
                f"--width {self.width}: a window of {length} steps has no middle step; take an odd "
                "number, or --align end"
            )
        return [(half, half - 1), (half - 1, half)]

    def _moved(
        self,
        dataset: Dataset,
        variable: Variable,
        axis: TimeAxis,
        length: int,
        reaches: list[tuple[int, int]],
    ) -> Variable:
        along = time_axis_of(dataset, variable)
        measure = self.measure.within(variable)
        sums = adding(variable, axis, along) if measure.kind == "sum" else None
        weights = mean_weights(variable, axis) if sums is None else sums.weights
        order, windows = _find_windows(axis, reaches)
        assert self.width is not None
        label = f"{variable.name} over {self.width.words}"
        work = MovingWindows(
            label, along, order, windows, measure, weights, length, self.min_coverage
        )
        first = (len(axis), *variable.shape[:along], *variable.shape[along + 1 :])
        data: Any = Reduction(variable.floats(), series=work).output("value", first)
        data = FirstAxisMoved(data, along)
        factor, units = _scale(variable, measure, sums)
        if factor != 1.0:
            data = Mapped(data, Rescaling(factor, 0.0), "f8")
        attributes = self._attributes(dataset, variable, axis, units, sums)
        return variable.derive(data, attributes=attributes)

    def _attributes(
        self,
        dataset: Dataset,
        variable: Variable,
        axis: TimeAxis,
        units: str | None,
        sums: TotalRule | None,
    ) -> dict[str, Any]:
        assert self.width is not None
        name = str(dataset.need(Role.TIME).name)
        running = f"running {self.width.count}-{self.width.unit}"
        about = describe_statistic(
            variable,
            self.measure,
            running,
            name,
            axis.spacing.as_interval,
            units,
            sums,
        )
        moving = f"over a moving window of {self.width.words}"
        return {**about, "comment": f"{moving}, aligned at its {self.align}"}


def _scale(
    variable: Variable, measure: Measure, sums: TotalRule | None
) -> tuple[float, str | None]:
    """Return what the statistic is multiplied by, and the units that it then has."""
    return measure.rescaled(variable) if sums is None else (sums.factor, sums.units)


def _find_windows(
    axis: TimeAxis, reaches: list[tuple[int, int]]
) -> tuple[Indices, list[tuple[Indices, Indices]]]:
    """Return the steps in the order of time, and for each of them, in this order, where its windows
    begin and end among them.

    Steps are counted by the periods that they stand for, so that a window does not reach farther
    where steps are left out.
    """
    order = np.asarray(axis.order)
    spacing = axis.spacing
    places = np.arange(order.size)
    if spacing.unit not in ("irregular", "single"):
        places = number_periods(axis, spacing.unit, spacing.count)[order]
    elif spacing.unit == "irregular":
        warn(
            "the steps are irregular, so the window is of a number of steps and not of a time"
        )
    if (np.diff(places) < 1).any():
        raise DataError(
            "two steps are of the same time; aggregate or choose one of them first"
        )
    windows = [
        (
            np.searchsorted(places, places - before, side="left"),
            np.searchsorted(places, places + after, side="right"),
        )
        for before, after in reaches
    ]
    return order, windows
