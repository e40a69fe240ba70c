"""What is written in the end: data, or a picture of them."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from rhodolite.arrays import Engine
from rhodolite.drawing import SUMMARIES as DRAWINGS
from rhodolite.drawing.base import Drawing
from rhodolite.errors import UsageError
from rhodolite.formats.atomic_output import (
    OutputKind,
    check_output,
    complete_or_nothing,
    size_on_disk,
)
from rhodolite.formats.layout import USUAL_LAYOUT, Layout
from rhodolite.model.dataset import Dataset
from rhodolite.operations.declaration import Step
from rhodolite.pipeline.plan import Plan, plan_drawing, plan_writing
from rhodolite.pipeline.provenance import Origin
from rhodolite.pipeline.splitting import output_kind
from rhodolite.pipeline.writing import save_figure, write

FIGURE_SUFFIXES = (".png", ".svg", ".pdf")
FILM_SUFFIXES = (".gif", ".mp4")


@dataclass(frozen=True, eq=False)
class Result:
    """Data that have come to the end of their steps.

    Parameters
    ----------
    dataset : Dataset
    picture : Drawing, optional
        What is drawn of them; without it the data themselves are written.
    read : tuple of Path
        Files that no output may replace.
    layout : Layout
        How data lie on disk.
    """

    dataset: Dataset
    picture: Drawing | None
    read: tuple[Path, ...]
    layout: Layout = USUAL_LAYOUT

    def plan(self, place: Path, engine: Engine) -> Plan:
        """Return what would be read and written, without doing it."""
        if self.picture is None:
            return plan_writing(self.dataset, place, self.layout, engine)
        return plan_drawing(self.picture, self.dataset, engine)

    def write(
        self, place: Path, engine: Engine, origin: Origin, *, overwrite: bool
    ) -> tuple[int, int]:
        """Compute the result and write it; complete, or not at all.

        Returns
        -------
        tuple of int
            Number of files and bytes written.

        Raises
        ------
        OutputError
            If the output exists, is an input, or cannot be written.
        """
        if self.picture is None:
            return write(
                self.dataset,
                place,
                engine=engine,
                overwrite=overwrite,
                layout=self.layout,
                also_read=self.read,
                origin=origin,
            )
        with complete_or_nothing(place, overwrite, self.read) as temporary:
            figure = self.picture(self.dataset, engine)
            study = None if origin.study is None else origin.study(self.dataset)
            save_figure(figure, temporary, study)
            written = size_on_disk(temporary)
        origin.tell([place], self.dataset)
        return written


def check_place(place: Path, picture: type[Step] | None, layout: Layout) -> OutputKind:
    """Return what an output will be on disk.

    Parameters
    ----------
    place : Path
    picture : type, optional
        Class of the drawing; without it data are written.
    layout : Layout

    Raises
    ------
    UsageError
        If nothing of the kind is written under such a suffix.
    """
    suffix = place.suffix.lower()
    if picture is None:
        if suffix in (*FIGURE_SUFFIXES, *FILM_SUFFIXES):
            kinds = " or ".join(f"draw {kind}" for kind in DRAWINGS)
            raise UsageError(
                f"{place}: this suffix is for figures; end the chain with 'then {kinds}', or "
                "write .nc"
            )
        return output_kind(place, layout)
    moves = issubclass(picture, Drawing) and picture.moves
    suffixes = FILM_SUFFIXES if moves else FIGURE_SUFFIXES
    if suffix not in suffixes:
        what = "an animation" if moves else "a drawing"
        raise UsageError(f"{place}: {what} is written as one of {', '.join(suffixes)}")
    if layout != USUAL_LAYOUT:
        raise UsageError(
            f"{place}: options of how data are written, such as --format, --chunks and "
            "--compression, are for data, and this is a figure"
        )
    return OutputKind.FILE


def check_companion(place: Path, output: Path | None, *, overwrite: bool) -> None:
    """Refuse a file beside the output that cannot be written.

    Parameters
    ----------
    place : Path
    output : Path, optional
    overwrite : bool
        Whether existing files may be replaced.

    Raises
    ------
    UsageError
        If it is the output, too, or no format has its suffix.
    OutputError
        If it exists, or cannot be written.
    """
    kind = output_kind(place)
    if output is not None and place.resolve() == output.resolve():
        raise UsageError(f"{place}: this is also the output; choose another name")
    check_output(place, overwrite, (), kind)
