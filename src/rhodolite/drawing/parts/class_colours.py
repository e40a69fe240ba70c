"""Fields of classes: one colour for each, in order from dry to wet, and their words in the
legend."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from rhodolite.arrays import Array
from rhodolite.drawing.parts.colour_scale import LINE_COLOURS
from rhodolite.drawing.parts.text import capitalise
from rhodolite.model.cf.classes import words_of_classes
from rhodolite.model.variable import Variable

_ENDS = (("dry", "wet", "BrBG"), ("cold", "warm", "RdBu_r"), ("low", "high", "PuOr_r"))


@dataclass(frozen=True)
class Classes:
    """The numbers of classes, in order, and what they mean (CF 3.5)."""

    numbers: tuple[float, ...]
    words: tuple[str, ...]

    @classmethod
    def of(cls, variable: Variable) -> Classes | None:
        """Return the classes of a variable; None where it is a quantity."""
        words = words_of_classes(variable)
        return cls(tuple(words), tuple(words.values())) if words else None

    @property
    def limits(self) -> Array:
        """Where one colour ends and the next begins."""
        numbers = np.array(self.numbers)
        middles = (numbers[1:] + numbers[:-1]) / 2
        return np.concatenate([[numbers[0] - 0.5], middles, [numbers[-1] + 0.5]])

    def colours(self, palette: str | None) -> tuple[Any, Any]:
        """Return Matplotlib's colour map and norm, classes between two ends from one to the
        other."""
        import matplotlib
        from matplotlib.colors import BoundaryNorm, ListedColormap

        count = len(self.words)
        ends = next(
            (
                name
                for low, high, name in _ENDS
                if low in self.words[0] and high in self.words[-1]
            ),
            None,
        )
        if palette or ends or count > len(LINE_COLOURS):
            shades = list(
                matplotlib.colormaps[palette or ends or "viridis"](
                    np.linspace(0.04, 0.96, count)
                )
            )
        else:
            shades = list(LINE_COLOURS[:count])
        return ListedColormap(shades), BoundaryNorm(self.limits, count)

    def add_legend(self, figure: Any, mesh: Any, axes: Any) -> None:
        """Add a legend with a word beside each colour."""
        limits = self.limits
        bar = figure.colorbar(
            mesh,
            ax=axes,
            location="right",
            shrink=0.85,
            aspect=24,
            pad=0.02,
            ticks=(limits[1:] + limits[:-1]) / 2,
            spacing="uniform",
        )
        bar.ax.set_yticklabels([capitalise(word) for word in self.words], fontsize=11)
        bar.ax.tick_params(length=0)
