"""A chain: inputs, operations one after another, and at the end a file or a figure."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from rhodolite.arrays import Engine
from rhodolite.drawing import DRAWINGS
from rhodolite.drawing.parameters import Other
from rhodolite.errors import OutputError, UsageError
from rhodolite.formats.atomic import check_output, complete_or_nothing
from rhodolite.formats.opening import open_dataset
from rhodolite.formats.registry import format_for
from rhodolite.model.dataset import Dataset
from rhodolite.operations.declaration import parameters
from rhodolite.study.provenance import with_provenance

FIGURE_SUFFIXES = (".png", ".svg", ".pdf")


@dataclass(frozen=True)
class Chain:
    """What to do.

    Parameters
    ----------
    inputs : tuple of str
        Files and patterns.
    steps : tuple
        Operations, of which the last may be a drawing.
    output : Path
        Where the result goes; its suffix says what is written.
    overwrite : bool
        Whether an existing output may be replaced.
    """

    inputs: tuple[str, ...]
    steps: tuple[Any, ...]
    output: Path
    overwrite: bool = False

    @property
    def drawing(self) -> Any:
        """The drawing at the end, or None where a dataset is written."""
        return self.steps[-1] if self.steps and type(self.steps[-1]) in DRAWINGS.values() else None

    def run(self, engine: Engine) -> None:
        """Do it.

        Raises
        ------
        RhodoliteError
            If anything is wrong with the request, the data or the output.
        """
        if self.drawing is not None and self.output.suffix.lower() not in FIGURE_SUFFIXES:
            raise UsageError(f"{self.output}: a drawing is written as one of {', '.join(FIGURE_SUFFIXES)}")
        if self.drawing is None:
            _format_for_data(self.output)
        check_output(self.output, self.overwrite, ())
        dataset = open_dataset(self.inputs)
        read = [file.path for file in dataset.files]
        operations = self.steps[:-1] if self.drawing is not None else self.steps
        for step in operations:
            dataset = step(dataset)
        if self.drawing is None:
            write(dataset, self.output, engine=engine, overwrite=self.overwrite, also_read=read)
            return
        drawing, others = _resolved(self.drawing)
        with complete_or_nothing(self.output, self.overwrite, [*read, *others]) as temporary:
            save(drawing(dataset, engine), temporary)


def write(
    dataset: Dataset, path: Path, *, engine: Engine, overwrite: bool = False, also_read: Iterable[Path] = ()
) -> None:
    """Write a dataset in the format that the suffix names; complete, or not at all.

    Raises
    ------
    UsageError
        If no format has the suffix.
    OutputError
        If the output exists, is an input, or cannot be written.
    """
    chosen = format_for(path)
    inputs = [*(file.path for file in dataset.files), *also_read]
    with complete_or_nothing(path, overwrite, inputs) as temporary:
        chosen.write(with_provenance(dataset), temporary, engine)


def save(figure: Any, path: Path) -> None:
    """Write a figure in the format that the suffix names."""
    from matplotlib import rc_context

    try:
        # Letters as paths, and nothing that depends on the moment, so the same figure is the same file.
        with rc_context({"svg.hashsalt": "rhodolite", "svg.fonttype": "path"}):
            figure.savefig(path, metadata={".png": {"Software": "rhodolite"}, ".svg": {"Date": None},
                                           ".pdf": {"CreationDate": None}}[path.suffix.lower()])  # fmt: skip
    except OSError as error:
        raise OutputError(f"{path}: cannot be written: {error.strerror or error}") from error


def _format_for_data(path: Path) -> None:
    if path.suffix.lower() in FIGURE_SUFFIXES:
        kinds = " or ".join(f"draw {kind}" for kind in DRAWINGS)
        raise UsageError(f"{path}: this suffix is for figures; end the chain with 'then {kinds}', or write .nc")
    format_for(path)


def _resolved(drawing: Any) -> tuple[Any, Sequence[Path]]:
    """Open the other datasets that a drawing names."""
    changes, paths = {}, []
    for declared in parameters(type(drawing)):
        value = getattr(drawing, declared.field)
        if isinstance(value, Other) and value.dataset is None:
            opened = open_dataset(value.location)
            changes[declared.field] = dataclasses.replace(value, dataset=opened)
            paths += [file.path for file in opened.files]
    return (dataclasses.replace(drawing, **changes) if changes else drawing), paths
