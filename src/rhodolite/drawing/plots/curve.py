"""Curves against any axis that is none of space or time: return periods, frequencies, quantiles."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from rhodolite.arrays import Array, Engine
from rhodolite.drawing.base import Drawing
from rhodolite.drawing.options import CurveOptions, FigureOptions, PartOptions, Size
from rhodolite.drawing.parts.canvas import Canvas
from rhodolite.drawing.parts.text import axis_label, region_text
from rhodolite.errors import DataError
from rhodolite.model.dataset import Dataset
from rhodolite.model.units.udunits import pretty
from rhodolite.model.variable import Variable
from rhodolite.operations.declaration import parameter
from rhodolite.operations.subset import Subset
from rhodolite.plain_text import write_number

_MOST = 8
_LOWER, _UPPER = "_lower", "_upper"
_COLOURS = ("#0072B2", "#D55E00", "#009E73", "#CC79A7", "#E69F00", "#56B4E9")
_FEW = 12
"""Values of an axis that are all written at it."""
_WIDE = 10.0
"""Ratio of the last to the first value from which an axis is logarithmic."""


@dataclass(frozen=True)
class Curve(FigureOptions, CurveOptions, PartOptions, Drawing):
    """Curves against an axis of their own: return periods, frequencies, quantiles, patterns.

    All variables in the same units along the axis of the first are drawn, or those that are named;
    lower and upper limits become a band. An axis whose values are above zero and span a factor of
    ten and more is logarithmic, unless `--linear` is given, and so are densities with `--log`.

    Examples
    --------
    >>> Curve(variable="pr_return_level", at="61N,9E")  # doctest: +SKIP
    """

    log: bool = parameter("a logarithmic axis of values", default=False)
    linear: bool = parameter("an axis that is never logarithmic", default=False)

    def draw(self, dataset: Dataset, engine: Engine, axes: Any = None) -> Any:
        """Return a Matplotlib figure.

        Raises
        ------
        DataError
            If there is no axis of its own, or several cells are left.
        """
        part = self.shown(dataset)
        axis, variables = self._chosen(part)
        curves = {v.name: v.values(engine).reshape(-1) for v in variables}
        places = axis.values(engine).astype(np.float64)
        canvas = Canvas.make(self.size or Size(), axes)
        self._put_curves(canvas.axes, places, variables, curves)
        self._style(canvas, axis, places, variables[0])
        canvas.put_title(self.title or variables[0].quantity, region_text(part))
        return canvas.figure

    def shown(self, dataset: Dataset) -> Dataset:
        """See `Drawing.shown`."""
        wanted = self.variable and tuple(dataset[name].name for name in self.variable)
        return Subset(variable=wanted, at=self.at, time=self.time, level=self.level)(
            dataset
        )

    def _chosen(self, part: Dataset) -> tuple[Variable, tuple[Variable, ...]]:
        """Return the axis, and the variables that lie along it alone."""
        fields = [v for v in part.fields if v.numeric]
        axes = [axis for axis in (_own_axis(part, v) for v in fields) if axis]
        if not axes:
            raise DataError(
                f"{part.label}: no variable runs along an axis of its own, such as return "
                "periods, frequencies or quantiles; draw series and draw profile are for others"
            )
        axis = axes[0]
        along = [v for v in fields if axis.name in v.dimensions]
        chosen = [v for v in along if v.units == along[0].units][:_MOST]
        for variable in chosen:
            _need_one_cell(variable, axis)
        return axis, tuple(chosen)

    def _put_curves(
        self,
        axes: Any,
        places: Array,
        variables: tuple[Variable, ...],
        curves: dict[str, Array],
    ) -> None:
        lines = [v for v in variables if not v.name.endswith((_LOWER, _UPPER))]
        names = _without_common_end([v.quantity for v in lines])
        drawn = zip(lines, names, _COLOURS * 2, strict=False)
        for variable, name, colour in drawn:
            ends = [curves.get(f"{variable.name}{e}") for e in (_LOWER, _UPPER)]
            if ends[0] is not None and ends[1] is not None:
                axes.fill_between(
                    places, *ends, color=colour, alpha=0.2, linewidth=0, label="limits"
                )
            axes.plot(
                places,
                curves[variable.name],
                color=colour,
                linewidth=1.8,
                marker="o" if places.size < 40 else "",
                markersize=4,
                label=name,
            )

    def _style(
        self, canvas: Canvas, axis: Variable, places: Array, first: Variable
    ) -> None:
        axes = canvas.axes
        canvas.style_curves()
        axes.tick_params(labelsize=11)
        wide = places.min() > 0 and places.max() >= _WIDE * places.min()
        if wide and not self.linear:
            axes.set_xscale("log")
            _write_plainly(axes.xaxis)
            if places.size < _FEW:
                axes.set_xticks(places, [write_number(place) for place in places])
        if self.log:
            axes.set_yscale("log")
            _write_plainly(axes.yaxis)
        if self.limits is not None:
            axes.set_ylim(self.limits.low, self.limits.high)
        axes.margins(x=0.02)
        axes.set_xlabel(axis_label(axis.quantity, axis.units), fontsize=12)
        axes.set_ylabel(pretty(first.units) or first.quantity, fontsize=12)
        if len(axes.get_legend_handles_labels()[0]) > 1:
            canvas.add_names(1)


def _need_one_cell(variable: Variable, axis: Variable) -> None:
    cells = variable.data.size // axis.data.size
    if cells > 1:
        raise DataError(
            f"{variable.name} has {cells:,} cells; choose one with --at, or summarise first"
        )


def _write_plainly(axis: Any) -> None:
    """Have a logarithmic axis written in plain numbers."""
    from matplotlib.ticker import FuncFormatter, LogLocator, NullFormatter

    axis.set_major_locator(LogLocator(subs=(1.0, 2.0, 5.0)))
    axis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:g}"))
    axis.set_minor_formatter(NullFormatter())


def _without_common_end(names: list[str]) -> list[str]:
    """Return names without the words that all of them end in."""
    words = [name.split() for name in names]
    shortest = min(map(len, words), default=0)
    if len(names) < 2 or not shortest:
        return names
    common = 0
    while common < shortest - 1 and len({row[-1 - common] for row in words}) == 1:
        common += 1
    shortened = [" ".join(row[: len(row) - common]) for row in words]
    endings = (" of", " like that")
    for ending in endings:
        shortened = [name.removesuffix(ending) for name in shortened]
    return shortened


def _own_axis(part: Dataset, variable: Variable) -> Variable | None:
    """Return the axis of a variable that is none of space or time, and longer than 1."""
    known = {c.dimension for c in part.axes.by_role.values()}
    for name in variable.dimensions:
        along = part.variables.get(name)
        if along is None or name in known or part.lengths[name] < 2:
            continue
        if along.dimensions == (name,) and along.data.dtype.kind in "fiu":
            return along
    return None
