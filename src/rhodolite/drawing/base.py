"""Drawings: what every kind of picture is, declared like an operation."""

from __future__ import annotations

import io
from abc import abstractmethod
from functools import partial
from typing import Any, ClassVar

from rhodolite.arrays import Engine
from rhodolite.errors import UsageError
from rhodolite.model.dataset import Dataset
from rhodolite.model.indexing import count_longitudes_on, put_times_in_order
from rhodolite.operations.declaration import Step
from rhodolite.plain_text import make_visible


class Drawing(Step):
    """Base class of drawings, which make a Matplotlib figure of a dataset."""

    draws = True
    moves: ClassVar[bool] = False
    """Whether it is a film, and not a single figure."""
    one_panel: ClassVar[bool] = True
    """Whether the picture has a single panel, which can be drawn into axes that are there."""

    @abstractmethod
    def draw(self, dataset: Dataset, engine: Engine, axes: Any = None) -> Any:
        """Return the figure, computing what it shows on an engine."""

    def shown(self, dataset: Dataset) -> Dataset:
        """Return the data that the picture shows, averaged as they are in it, lazily: what is to be
        told about the picture is told about these.

        Parameters
        ----------
        dataset : Dataset

        Raises
        ------
        DataError
            If it is not clear what to draw.
        """
        return dataset

    def __call__(
        self, dataset: Dataset, engine: Engine | None = None, *, axes: Any = None
    ) -> Any:
        """Draw a dataset.

        Parameters
        ----------
        dataset : Dataset
        engine : Engine, optional
            What computes the values that are shown.
        axes : matplotlib Axes, optional
            Axes to draw into, in place of a figure of its own.

        Returns
        -------
        matplotlib Figure
        """
        if axes is not None and not self.one_panel:
            raise UsageError(
                f"draw {self.verb}: has several panels, which do not fit into one axes"
            )
        from matplotlib import rc_context
        from matplotlib.text import Text

        self.check_loaded()
        # What files say is no formula to be set, and steers nothing.
        with rc_context({"text.parse_math": False}):
            part = put_times_in_order(count_longitudes_on(dataset.plain))
            figure = self.draw(part, engine or Engine(), axes)
        # Of a figure of somebody else only the axes that were given may be changed.
        holder = figure if axes is None else axes
        for text in () if self.moves else holder.findobj(Text):
            if (shown := make_visible(text.get_text())) != text.get_text():
                text.set_text(shown)
        if axes is None and not self.moves:
            figure._repr_png_ = partial(_write_png, figure)
        return figure


def _write_png(figure: Any) -> bytes:
    """Return a figure as PNG, by which notebooks show what a cell ends with."""
    content = io.BytesIO()
    figure.savefig(content, format="png")
    return content.getvalue()
