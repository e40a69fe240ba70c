"""A chain: inputs, operations one after another, and at the end a file or a figure."""

from __future__ import annotations

import dataclasses
import itertools
import shlex
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from rhodolite.arrays import Engine
from rhodolite.drawing import DRAWINGS, Animation
from rhodolite.errors import OutputError, UsageError
from rhodolite.formats.atomic import OutputKind, check_output, complete_or_nothing, size_on_disk
from rhodolite.formats.chunking import USUAL_LAYOUT, Layout
from rhodolite.formats.mending import mended, with_missing
from rhodolite.formats.opening import expand, open_dataset
from rhodolite.formats.registry import Format, format_for
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.operations.annotate import Annotate
from rhodolite.operations.declaration import parameters, to_plain
from rhodolite.operations.members import member_names, stacked
from rhodolite.operations.others import Other
from rhodolite.study.planning import Plan, plan_drawing, plan_writing
from rhodolite.study.provenance import Origin, with_provenance

FIGURE_SUFFIXES = (".png", ".svg", ".pdf")
FILM_SUFFIXES = (".gif", ".mp4")


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
        Where the result goes; its suffix says what is written. None where the last step has something to say.
    overwrite : bool
        Whether an existing output may be replaced.
    layout : Layout
        How the output is to lie on disk.
    group : str, optional
        The group to read of the inputs.
    members : bool
        Whether the inputs are the members of an ensemble. Steps are done to each, until one that needs all of
        them, which are then put side by side.
    missing_value : float, optional
        A number that stands for missing values, besides those that the files name.
    """

    inputs: tuple[str, ...]
    steps: tuple[Any, ...]
    output: Path | None
    overwrite: bool = False
    layout: Layout = USUAL_LAYOUT
    group: str | None = None
    members: bool = False
    missing_value: float | None = None

    @property
    def origin(self) -> Origin:
        """What was typed besides the steps, for the record."""
        options = ["--members"] if self.members else []
        options += ["--group", shlex.quote(self.group)] if self.group else []
        options += ["--missing-value", f"{self.missing_value:g}"] if self.missing_value is not None else []
        return Origin(self.inputs, tuple(options))

    @property
    def drawing(self) -> Any:
        """The drawing at the end, or None where a dataset is written."""
        return self.steps[-1] if self.steps and type(self.steps[-1]) in DRAWINGS.values() else None

    def run(self, engine: Engine) -> tuple[tuple[int, int] | None, list[str]]:
        """Do it, and return the number of files and bytes written, if any, and what there is to say about the result.

        Raises
        ------
        RhodoliteError
            If anything is wrong with the request, the data or the output.
        """
        dataset, read = self._result()
        if self.output is None:
            said = [remark.text(engine) for remark in dataset.remarks]
            if not said:
                raise UsageError(f"{to_plain(self.steps[-1])['verb']}: no output; add -o FILE, such as -o result.nc")
            return None, said
        if self.drawing is None:
            written = write(
                dataset,
                self.output,
                engine=engine,
                overwrite=self.overwrite,
                layout=self.layout,
                also_read=read,
                origin=self.origin,
            )
            return written, [remark.text(engine) for remark in dataset.remarks]
        drawing, others = _resolved(self.drawing)
        with complete_or_nothing(self.output, self.overwrite, [*read, *others]) as temporary:
            save(drawing(dataset, engine), temporary)
        return size_on_disk(self.output), []

    def plan(self, engine: Engine) -> Plan:
        """Return what would be read and written, without doing it.

        Raises
        ------
        RhodoliteError
            If anything is wrong that can be told before the data are read.
        """
        if self.output is None:
            raise UsageError("--plan needs an output; add -o FILE")
        dataset, _ = self._result()
        if self.drawing is None:
            return plan_writing(dataset, self.output, self.layout, engine)
        return plan_drawing(_resolved(self.drawing)[0], dataset, engine)

    def _result(self) -> tuple[Dataset, list[Path]]:
        """Return what the operations make of the inputs, lazily, and the files behind it."""
        if self.output is not None:
            self._check_output(self.output)
        datasets, names = self._opened()
        read = [file.path for dataset in datasets for file in dataset.files]
        if self.missing_value is not None:
            datasets = [with_missing(dataset, self.missing_value) for dataset in datasets]
        operations = self.steps[:-1] if self.drawing is not None else self.steps
        # What is named right to begin with need not be guessed, nor can what has been mended be named any more.
        naming = list(itertools.takewhile(lambda step: isinstance(step, Annotate), operations))
        for step in naming:
            datasets = [step(dataset) for dataset in datasets]
        datasets = [mended(dataset) for dataset in datasets]
        for step in operations[len(naming) :]:
            opened, others = _resolved(step)
            if len(datasets) > 1 and getattr(step, "needs_all_members", False):
                datasets = [stacked(datasets, names)]
            datasets = [opened(dataset) for dataset in datasets]
            read += others
        return (stacked(datasets, names) if len(datasets) > 1 else datasets[0]), read

    def _opened(self) -> tuple[list[Dataset], list[str]]:
        """Return the dataset that the inputs form, or each member of an ensemble with its name."""
        if not self.members:
            return [open_dataset(self.inputs, group=self.group, generous=False)], [""]
        return open_members(self.inputs, self.group)

    def _check_output(self, output: Path) -> None:
        suffixes = FILM_SUFFIXES if isinstance(self.drawing, Animation) else FIGURE_SUFFIXES
        if self.drawing is not None and output.suffix.lower() not in suffixes:
            what = "an animation" if suffixes is FILM_SUFFIXES else "a drawing"
            raise UsageError(f"{output}: {what} is written as one of {', '.join(suffixes)}")
        kind = OutputKind.FILE
        if self.drawing is None:
            kind = _format_for_data(output, self.layout).kind
        elif self.layout != USUAL_LAYOUT:
            raise UsageError(f"{output}: --format, --chunks and --compression are for data, and this is a figure")
        check_output(output, self.overwrite, (), kind)


def open_members(inputs: Sequence[str], group: str | None = None) -> tuple[list[Dataset], list[str]]:
    """Open the members of an ensemble, one an input, or one a file where there is a single pattern.

    Returns
    -------
    datasets : list of Dataset
    names : list of str
        Short names of the members.

    Raises
    ------
    UsageError
        If there is a single file.
    """
    each = tuple(inputs) if len(inputs) > 1 else tuple(str(path) for path in expand(inputs[0]))
    if len(each) == 1:
        raise UsageError(f"--members: {inputs[0]} is a single file; name each member, such as a.nc b.nc 'c_*.nc'")
    return [open_dataset(one, group=group, generous=False) for one in each], member_names(each)


def write(
    dataset: Dataset,
    path: Path,
    *,
    engine: Engine,
    overwrite: bool = False,
    layout: Layout = USUAL_LAYOUT,
    also_read: Iterable[Path] = (),
    origin: Origin | None = None,
) -> tuple[int, int]:
    """Write a dataset in the format that the suffix names; complete, or not at all.

    Returns
    -------
    tuple of int
        Number of files and bytes written.

    Raises
    ------
    UsageError
        If no format has the suffix.
    OutputError
        If the output exists, is an input, or cannot be written.
    """
    chosen = format_for(path, layout)
    if layout.unlimited:
        dataset = dataclasses.replace(dataset, unlimited=dataset.unlimited | {str(dataset.need(Role.TIME).dimension)})
    inputs = [*(file.path for file in dataset.files), *also_read]
    with complete_or_nothing(path, overwrite, inputs, chosen.kind) as temporary:
        chosen.write(with_provenance(dataset, origin), temporary, engine, layout)
        return size_on_disk(temporary.parent if chosen.kind is OutputKind.MANY else temporary)


def save(figure: Any, path: Path) -> None:
    """Write a figure in the format that the suffix names."""
    from matplotlib import rc_context

    try:
        # Letters as paths, and nothing that depends on the moment, so the same figure is the same file.
        with rc_context({"svg.hashsalt": "rhodolite", "svg.fonttype": "path"}):
            figure.savefig(
                path,
                metadata={
                    ".png": {"Software": "rhodolite"},
                    ".svg": {"Date": None},
                    ".pdf": {"CreationDate": None},
                }.get(path.suffix.lower()),
            )
    except OSError as error:
        raise OutputError(f"{path}: cannot be written: {error.strerror or error}") from error


def _format_for_data(path: Path, layout: Layout) -> Format:
    if path.suffix.lower() in (*FIGURE_SUFFIXES, *FILM_SUFFIXES):
        kinds = " or ".join(f"draw {kind}" for kind in DRAWINGS)
        raise UsageError(f"{path}: this suffix is for figures; end the chain with 'then {kinds}', or write .nc")
    return format_for(path, layout)


def _resolved(step: Any) -> tuple[Any, Sequence[Path]]:
    """Open the other datasets that a step names."""
    changes, paths = {}, []
    for declared in parameters(type(step)):
        value = getattr(step, declared.field)
        if isinstance(value, Other) and value.opened is None:
            opened = open_dataset(value.location)
            changes[declared.field] = dataclasses.replace(value, opened=opened)
            paths += [file.path for file in opened.files]
    return (dataclasses.replace(step, **changes) if changes else step), paths
