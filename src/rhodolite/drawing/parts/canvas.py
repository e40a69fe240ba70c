"""The figure that a picture is drawn on, or axes of somebody else's figure."""

from __future__ import annotations

from dataclasses import dataclass
from textwrap import fill
from typing import Any, Literal

from rhodolite.drawing.options import Size
from rhodolite.drawing.parts.text import capitalise
from rhodolite.drawing.parts.title import put_title
from rhodolite.plain_text import cut_text

DOTS_PER_INCH = 100
"""Sizes are given in pixels; vector formats take so many of them to the inch."""
FigureLayout = Literal["constrained", "compressed"]
_GRID = "#dddddd"
_LONGEST_NAME = 70
_SMALL = 10.0
_LETTERS_OF_NAMES, _BESIDE_NAMES = 0.58 * 11, 50.0
"""Usual width of letters of names, and what lines and space take beside a name, in points."""
_LETTER = 0.58 * _SMALL
"""Size of letters in the axes of others, and their usual width, in points."""


@dataclass(frozen=True, eq=False)
class Canvas:
    """A figure, the axes to draw into, and whether the figure was made for the picture.

    Attributes
    ----------
    figure : matplotlib Figure
    axes : matplotlib Axes
    size : Size
        In pixels.
    borrowed : bool
        Whether the axes belong to a figure of somebody else, of which only they may be changed.
    """

    figure: Any
    axes: Any
    size: Size
    borrowed: bool = False

    @classmethod
    def make(
        cls, size: Size, axes: Any = None, layout: FigureLayout = "constrained"
    ) -> Canvas:
        """Return a new figure of a size with one axes, or the axes given with their figure."""
        if axes is not None:
            width, height = axes.figure.get_size_inches() * axes.figure.dpi
            return cls(
                axes.figure, axes, Size(round(width), round(height)), borrowed=True
            )
        figure = new_figure(size, layout)
        return cls(figure, figure.add_subplot(), size)

    def put_title(self, title: str, caption: str) -> None:
        """Write a title and the line under it that says what, when and where."""
        if self.borrowed:
            self._fit_into_axes(title, caption)
        else:
            put_title(self.figure, title, caption, self.size)

    def _fit_into_axes(self, title: str, caption: str) -> None:
        """Write title, caption and label so that they do not reach into the axes beside these."""
        dots = self.axes.get_window_extent().size * 72 / self.figure.dpi
        across, upright = (max(12, int(side / _LETTER)) for side in dots)
        lines = [fill(capitalise(text), across) for text in (title, caption) if text]
        self.axes.set_title("\n".join(lines), loc="left", fontsize=_SMALL)
        label = self.axes.yaxis.label
        label.set(
            text=fill(" ".join(label.get_text().split()), upright), fontsize=_SMALL
        )

    def add_names(self, columns: int) -> None:
        """Add the names of curves, below the axes where there is room made for them, in so many
        columns at most."""
        handles, labels = self.axes.get_legend_handles_labels()
        names = [cut_text(label, _LONGEST_NAME) for label in labels]
        if self.borrowed:
            self.axes.legend(handles, names, fontsize=10, frameon=False)
            return
        self.figure.legend(
            handles,
            names,
            loc="outside lower left",
            ncols=min(columns, self._columns_that_fit(names)),
            fontsize=11,
            frameon=False,
        )

    def _columns_that_fit(self, names: list[str]) -> int:
        width = _LETTERS_OF_NAMES * max(map(len, names), default=1) + _BESIDE_NAMES
        return max(1, int(72 * self.figure.get_figwidth() / width))

    def style_curves(self) -> None:
        """Give axes of curves a pale grid, and lines on the left and below only."""
        self.axes.grid(color=_GRID, linewidth=0.6)
        self.axes.set_axisbelow(True)
        self.axes.spines[["top", "right"]].set_visible(False)


def new_figure(size: Size, layout: FigureLayout) -> Any:
    """Return an empty figure of a size in pixels.

    Parameters
    ----------
    size : Size
        In pixels.
    layout : FigureLayout
        How Matplotlib places the parts.
    """
    from matplotlib.figure import Figure

    inches = (size.width / DOTS_PER_INCH, size.height / DOTS_PER_INCH)
    return Figure(inches, dpi=DOTS_PER_INCH, layout=layout)
