"""How a field becomes colours, with a legend of them: by steps of a quantity, or by classes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from rhodolite.arrays import Array
from rhodolite.drawing.options import Limits
from rhodolite.drawing.parts.class_colours import Classes
from rhodolite.drawing.parts.colour_scale import Scale, choose_scale, colours
from rhodolite.drawing.parts.legend import add_legend
from rhodolite.model.variable import Variable


@dataclass(frozen=True)
class Steps:
    """The colours of a quantity, in steps, from a centre where there is one."""

    variable: Variable
    scale: Scale
    centre: float | None

    def colours(self) -> tuple[Any, Any]:
        """Return Matplotlib's colour map and norm."""
        return colours(self.scale, self.centre)

    def add_legend(self, figure: Any, mesh: Any, axes: Any, **room: Any) -> None:
        """Add the steps with their limits, where and how large `room` says."""
        add_legend(figure, mesh, axes, self.scale, self.variable, **room)


@dataclass(frozen=True)
class ColouredClasses:
    """The colours of classes, each with its word."""

    classes: Classes
    palette: str | None

    def colours(self) -> tuple[Any, Any]:
        """Return Matplotlib's colour map and norm."""
        return self.classes.colours(self.palette)

    def add_legend(self, figure: Any, mesh: Any, axes: Any, **_: Any) -> None:
        """Add the words at the right, since they need its width."""
        self.classes.add_legend(figure, mesh, axes)


Colouring = Steps | ColouredClasses


def choose_colours(
    values: Array,
    variable: Variable,
    palette: str | None,
    limits: Limits | None,
    centre: float | None,
) -> Colouring:
    """Return how a field becomes colours; parameters as for `choose_scale`."""
    classes = Classes.of(variable)
    if classes is not None:
        return ColouredClasses(classes, palette)
    scale, pivot = choose_scale(values, variable, palette, limits, centre)
    return Steps(variable, scale, pivot)
