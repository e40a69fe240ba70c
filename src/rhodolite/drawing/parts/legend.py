"""What colours, marks and hatched ground mean."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.drawing.parts.colour_scale import Scale
from rhodolite.drawing.parts.text import (
    axis_label,
    date_text,
    digits_for,
    shown_units,
    write_digits,
)
from rhodolite.model.variable import Variable

GROUND = "#e4e4e4"
HATCH = "\\\\\\\\"


@dataclass(frozen=True)
class Marks:
    """Cells to mark, shape (rows, columns), with hatches or dots, and what that means."""

    cells: NDArray[np.bool_]
    hatches: bool
    meaning: str


def add_key(axes: Any, missing: bool, marks: Marks | None = None) -> None:
    """Say what hatched ground and marks mean, where there are any.

    Parameters
    ----------
    axes : object
        Matplotlib axes.
    missing : bool
        Whether cells without data are shown.
    marks : Marks, optional
    """
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch

    handles: list[Any] = []
    if missing:
        handles.append(
            Patch(
                facecolor=GROUND,
                edgecolor="#9a9a9a",
                hatch="////",
                linewidth=0,
                label="no data",
            )
        )
    if marks is not None:
        words = marks.meaning.partition(" is ")[2] or marks.meaning
        handles.append(
            Patch(facecolor="white", hatch=HATCH, linewidth=0, label=words)
            if marks.hatches
            else Line2D(
                [],
                [],
                color="black",
                marker=".",
                markersize=4,
                linestyle="",
                label=words,
            )
        )
    if handles:
        axes.legend(
            handles=handles,
            loc="lower left",
            fontsize=10,
            framealpha=0.9,
            handlelength=1.6,
        ).set_zorder(8)


def add_legend(
    figure: Any, mesh: Any, axes: Any, scale: Scale, variable: Variable, **place: Any
) -> None:
    """Add the legend of a field: its colours, their limits, and the quantity with its units.

    Numbers that are very small or large are written as multiples of a power of ten, which goes to
    the units.
    """
    largest = float(np.abs(scale.edges).max())
    units = shown_units(variable)
    are_dates = units != variable.units
    power = (
        0
        if are_dates or 1e-2 <= largest < 1e5 or largest == 0
        else int(np.floor(np.log10(largest)))
    )
    closest = float(np.diff(scale.edges).min()) if scale.edges.size > 1 else 0.0
    digits = digits_for(largest, closest, fewest=6)
    if digits > 6:  # numbers that hardly differ are read more easily in full
        power = 0

    def write(value: float, _: Any) -> str:
        if (date := date_text(value, variable)) is not None:
            return date
        value = 0.0 if abs(value) < 1e-9 * largest else value / 10.0**power
        return write_digits(value, digits)

    bar = figure.colorbar(
        mesh, ax=axes, extend=scale.extend, ticks=scale.edges, format=write, **place
    )
    if power:
        units = f"1e{power} {units or ''}".strip()
    bar.set_label(
        axis_label(
            variable.quantity, units, 58 if place.get("location") == "right" else 100
        ),
        fontsize=12,
    )
