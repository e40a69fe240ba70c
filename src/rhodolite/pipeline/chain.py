"""A chain: inputs, operations one after another, and at the end a file or a figure."""

from __future__ import annotations

import itertools
import shlex
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from rhodolite.arrays import Engine, read_small
from rhodolite.drawing import SUMMARIES as DRAWINGS
from rhodolite.drawing.base import Drawing
from rhodolite.errors import RhodoliteWarning, UsageError, keeping_warnings
from rhodolite.formats.atomic_output import (
    OutputKind,
    check_output,
    complete_or_nothing,
    size_on_disk,
)
from rhodolite.formats.layout import USUAL_LAYOUT, Layout
from rhodolite.formats.normalise import declare_missing, normalise
from rhodolite.formats.open import expand, open_dataset
from rhodolite.formats.reading_rules import USUAL_RULES, ReadingRules, reading_by
from rhodolite.formats.registry import format_for
from rhodolite.model.dataset import Dataset
from rhodolite.operations.declaration import Operation, Step
from rhodolite.pipeline.deep_calls import MOST_IN_A_ROW, deep_calls
from rhodolite.pipeline.plan import Plan, plan_drawing, plan_writing
from rhodolite.pipeline.provenance import Origin
from rhodolite.pipeline.side_inputs import SideInputs
from rhodolite.pipeline.splitting import output_kind
from rhodolite.pipeline.writing import save_figure, write, write_companions
from rhodolite.plain_text import write_number

FIGURE_SUFFIXES = (".png", ".svg", ".pdf")
FILM_SUFFIXES = (".gif", ".mp4")


@dataclass(frozen=True)
class Outcome:
    """What a chain has done.

    Attributes
    ----------
    written : tuple of int or None
        Number of files and bytes; None where nothing was written.
    said : list of str
        What there is to say about the result.
    """

    written: tuple[int, int] | None
    said: list[str]


@dataclass(frozen=True, eq=False)
class Prepared:
    """A chain whose files have been opened, before any value is computed.

    Attributes
    ----------
    dataset : Dataset
    drawing : Drawing or None
    companions : mapping of str to Dataset
        What is written beside the output.
    read : tuple of Path
        Files that no output may replace.
    """

    dataset: Dataset
    drawing: Drawing | None
    companions: Mapping[str, Dataset]
    read: tuple[Path, ...]


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
        Where the result goes; its suffix says what is written. None where the last step has
        something to say.
    overwrite : bool
        Whether an existing output may be replaced.
    layout : Layout
        How the output is to lie on disk.
    group : str, optional
        The group to read of the inputs.
    members : bool
        Whether the inputs are the members of an ensemble. Steps are done to each, until one that
        needs all of them, which are then put side by side.
    missing_value : float, optional
        A number that stands for missing values, besides those that the files name.
    rules : ReadingRules
        How files are read, where they do not say it themselves.
    study : callable, optional
        Gives the study that it stands for, as text, which its output will carry, for the dataset
        that is written and what was warned of.
    """

    inputs: tuple[str, ...]
    steps: tuple[Step, ...]
    output: Path | None
    overwrite: bool = False
    layout: Layout = USUAL_LAYOUT
    group: str | None = None
    members: bool = False
    missing_value: float | None = None
    rules: ReadingRules = USUAL_RULES
    study: Callable[[Dataset, Sequence[RhodoliteWarning]], str] | None = None

    def _origin(self, warned: Sequence[RhodoliteWarning]) -> Origin:
        """Return what was typed besides the steps, for the record."""
        options = ["--members"] if self.members else []
        options += ["--group", shlex.quote(self.group)] if self.group else []
        if self.missing_value is not None:
            options += ["--missing-value", write_number(self.missing_value)]
        options += self.rules.words()
        tell = self.study
        study = None if tell is None else lambda dataset: tell(dataset, warned)
        return Origin(self.inputs, tuple(options), study)

    @property
    def drawing(self) -> Drawing | None:
        """The drawing at the end, or None where a dataset is written."""
        last = self.steps[-1] if self.steps else None
        return last if isinstance(last, Drawing) else None

    def run(self, engine: Engine) -> Outcome:
        """Compute the chain and write its output.

        Raises
        ------
        RhodoliteError
            If anything is wrong with the request, the data or the output.
        """
        # What --variable chooses is a step of its own.
        if len(self.steps) > MOST_IN_A_ROW + 1:
            raise UsageError(
                f"{len(self.steps)} steps follow each other, and at most {MOST_IN_A_ROW} may; "
                "write an output between them"
            )
        with deep_calls(len(self.steps)):
            return self._run(engine)

    def _run(self, engine: Engine) -> Outcome:
        with keeping_warnings() as warned:
            prepared = self._prepare()
            dataset = prepared.dataset
            if self.output is None and not dataset.remarks:
                verb = self.steps[-1].verb
                raise UsageError(f"{verb}: no output; add -o FILE, such as -o result.nc")
            origin = self._origin(warned)
            written = None
            if self.output is not None:
                written = self._write(prepared, self.output, engine, origin)
        write_companions(
            prepared.companions, engine=engine, overwrite=self.overwrite, inputs=prepared.read
        )
        said = (
            [] if self.drawing is not None else [remark.text(engine) for remark in dataset.remarks]
        )
        said = [text for text in said if text]
        return Outcome(written, said)

    def compute(self) -> Dataset:
        """Return what the chain makes of its inputs, lazily.

        Raises
        ------
        RhodoliteError
            If anything is wrong that shows before the data are read.
        """
        return self._prepare().dataset

    def plan(self, engine: Engine) -> Plan:
        """Return what would be read and written, without doing it.

        Raises
        ------
        RhodoliteError
            If anything is wrong that shows before the data are read.
        """
        if self.output is None:
            raise UsageError("--plan needs an output; add -o FILE")
        # Nothing is replaced by a plan, so there is nothing to refuse.
        prepared = replace(self, overwrite=True)._prepare()
        if prepared.drawing is None:
            return plan_writing(prepared.dataset, self.output, self.layout, engine)
        return plan_drawing(prepared.drawing, prepared.dataset, engine)

    def _write(
        self, prepared: Prepared, output: Path, engine: Engine, origin: Origin
    ) -> tuple[int, int]:
        """Write the dataset or the figure, and return the number of files and bytes."""
        if prepared.drawing is None:
            return write(
                prepared.dataset,
                output,
                engine=engine,
                overwrite=self.overwrite,
                layout=self.layout,
                also_read=prepared.read,
                origin=origin,
            )
        with complete_or_nothing(output, self.overwrite, prepared.read) as temporary:
            figure = prepared.drawing(prepared.dataset, engine)
            study = None if origin.study is None else origin.study(prepared.dataset)
            save_figure(figure, temporary, study)
        return size_on_disk(output)

    def _prepare(self) -> Prepared:
        """Return what the operations make of the inputs, lazily, and what was read for it."""
        with reading_by(self.rules):
            return self._prepare_by_rules()

    def _prepare_by_rules(self) -> Prepared:
        if self.output is not None:
            self._check_output(self.output)
        self._check_companions()
        datasets, names = self._open()
        reader = SideInputs()
        read = [file.path for dataset in datasets for file in dataset.files]
        if self.missing_value is not None:
            datasets = [declare_missing(dataset, self.missing_value) for dataset in datasets]
        operations = [step for step in self.steps if isinstance(step, Operation)]
        # What is named right to begin with need not be guessed, nor can what has been repaired be
        # named any more.
        naming = list(itertools.takewhile(lambda step: step.runs_before_normalise, operations))
        for step in naming:
            datasets = [step(dataset) for dataset in datasets]
        datasets = [normalise(dataset) for dataset in datasets]
        companions: dict[str, Dataset] = {}
        for step in operations[len(naming) :]:
            loaded = step.loaded(reader)
            if len(datasets) > 1 and loaded.needs_all_members:
                datasets = [_stacked(datasets, names)]
            datasets = [loaded(dataset) for dataset in datasets]
            _gather_companions(companions, datasets)
        dataset = _stacked(datasets, names) if len(datasets) > 1 else datasets[0]
        drawing = None if self.drawing is None else self.drawing.loaded(reader)
        return Prepared(dataset, drawing, companions, (*read, *reader.paths))

    def _open(self) -> tuple[list[Dataset], list[str]]:
        """Return the dataset that the inputs form, or each member of an ensemble with its name."""
        if not self.members:
            return [open_dataset(self.inputs, group=self.group, generous=False)], [""]
        return open_members(self.inputs, self.group)

    def _check_output(self, output: Path) -> None:
        suffixes = (
            FILM_SUFFIXES if self.drawing is not None and self.drawing.moves else FIGURE_SUFFIXES
        )
        if self.drawing is not None and output.suffix.lower() not in suffixes:
            what = "an animation" if suffixes is FILM_SUFFIXES else "a drawing"
            raise UsageError(f"{output}: {what} is written as one of {', '.join(suffixes)}")
        kind = OutputKind.FILE
        if self.drawing is None:
            kind = _kind_of_data(output, self.layout)
        elif self.layout != USUAL_LAYOUT:
            raise UsageError(
                f"{output}: options of how data are written, such as --format, --chunks and "
                "--compression, are for data, and this is a figure"
            )
        check_output(output, self.overwrite, (), kind)

    def _check_companions(self) -> None:
        for name in (name for step in self.steps for name in step.writes()):
            format_for(Path(name))
            if self.output is not None and Path(name).resolve() == self.output.resolve():
                raise UsageError(f"{name}: this is also the output; choose another name")
            check_output(Path(name), self.overwrite, ())


def open_members(
    inputs: Sequence[str], group: str | None = None
) -> tuple[list[Dataset], list[str]]:
    """Open the members of an ensemble, one per input, or one per file where there is a single
    pattern.

    Parameters
    ----------
    inputs : sequence of str
        Files, patterns and addresses.
    group : str, optional
        Group to read of files that have groups.

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
    from rhodolite.operations.pairing.ensemble import member_names

    each = tuple(inputs) if len(inputs) > 1 else tuple(str(path) for path in expand(inputs[0]))
    if len(each) == 1:
        raise UsageError(
            f"--members: {inputs[0]} is a single file; name each member, such as a.nc b.nc 'c_*.nc'"
        )
    return [open_dataset(text, group=group, generous=False) for text in each], member_names(each)


def _stacked(datasets: list[Dataset], names: list[str]) -> Dataset:
    from rhodolite.operations.pairing.ensemble import stack_members

    return stack_members(datasets, names)


def _kind_of_data(path: Path, layout: Layout) -> OutputKind:
    if path.suffix.lower() in (*FIGURE_SUFFIXES, *FILM_SUFFIXES):
        kinds = " or ".join(f"draw {kind}" for kind in DRAWINGS)
        raise UsageError(
            f"{path}: this suffix is for figures; end the chain with 'then {kinds}', or write .nc"
        )
    return output_kind(path, layout)


def _gather_companions(into: dict[str, Dataset], datasets: Sequence[Dataset]) -> None:
    """Add what datasets want to have written beside them; members must not differ in it."""
    for dataset in datasets:
        for name, companion in dataset.companions.items():
            if name in into and not _hold_the_same(into[name], companion):
                raise UsageError(
                    f"{name}: the members would each write another file of this name; do it for "
                    "one of them first"
                )
            into.setdefault(name, companion)


def _hold_the_same(one: Dataset, other: Dataset) -> bool:
    if one is other:
        return True
    pairs = zip(one.variables.values(), other.variables.values(), strict=False)
    return one.variables.keys() == other.variables.keys() and all(
        np.array_equal(read_small(a.data), read_small(b.data)) for a, b in pairs
    )
