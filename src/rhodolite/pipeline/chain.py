"""A chain: inputs, operations one after another, and at the end a file or a figure."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from rhodolite.arrays import Engine, read_small
from rhodolite.drawing.base import Drawing
from rhodolite.errors import RhodoliteWarning, UsageError, keeping_warnings
from rhodolite.formats.atomic_output import check_output
from rhodolite.formats.layout import USUAL_LAYOUT, Layout
from rhodolite.model.dataset import Dataset
from rhodolite.operations.declaration import Operation, Step
from rhodolite.pipeline.deep_calls import MOST_IN_A_ROW, deep_calls
from rhodolite.pipeline.inputs import Input
from rhodolite.pipeline.plan import Plan
from rhodolite.pipeline.provenance import Origin
from rhodolite.pipeline.result import Result, check_companion, check_place
from rhodolite.pipeline.side_inputs import SideInputs
from rhodolite.pipeline.writing import write_companions


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


@dataclass(frozen=True)
class Chain:
    """What to do: a path from one input to one output.

    Parameters
    ----------
    input : Input
    steps : tuple
        Operations, of which the last may be a drawing.
    output : Path
        Where the result goes; its suffix says what is written. None where the last step has
        something to say.
    overwrite : bool
        Whether an existing output may be replaced.
    layout : Layout
        How the output is to lie on disk.
    study : callable, optional
        Gives the study that it stands for, as text, which its output will carry, for the dataset
        that is written and what was warned of.
    note : callable, optional
        Is told which files were written, and their study.
    """

    input: Input
    steps: tuple[Step, ...]
    output: Path | None
    overwrite: bool = False
    layout: Layout = USUAL_LAYOUT
    study: Callable[[Dataset, Sequence[RhodoliteWarning]], str] | None = None
    note: Callable[[Sequence[Path], str], None] | None = None

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
            result, companions = self._prepare()
            remarks = result.dataset.remarks
            if self.output is None and not remarks:
                verb = self.steps[-1].verb
                raise UsageError(
                    f"{verb}: no output; add -o FILE, such as -o result.nc"
                )
            written = None
            if self.output is not None:
                origin = self._origin(warned)
                written = result.write(
                    self.output, engine, origin, overwrite=self.overwrite
                )
        write_companions(
            companions, engine=engine, overwrite=self.overwrite, inputs=result.read
        )
        if self.drawing is not None:
            return Outcome(written, [])
        said = [remark.text(engine) for remark in remarks]
        return Outcome(written, [text for text in said if text])

    def compute(self) -> Dataset:
        """Return what the chain makes of its inputs, lazily.

        Raises
        ------
        RhodoliteError
            If anything is wrong that shows before the data are read.
        """
        return self._prepare()[0].dataset

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
        result, _ = replace(self, overwrite=True)._prepare()
        return result.plan(self.output, engine)

    def _origin(self, warned: Sequence[RhodoliteWarning]) -> Origin:
        """Return what was typed besides the steps, for the record."""
        tell = self.study
        study = None if tell is None else lambda dataset: tell(dataset, warned)
        return Origin(self.input.files, tuple(self.input.words()), study, self.note)

    def _prepare(self) -> tuple[Result, Mapping[str, Dataset]]:
        """Return what the operations make of the input, lazily, and what is to be written beside
        it."""
        self._check_places()
        stage, side_inputs = self.input.open(), SideInputs()
        read = [file.path for dataset in stage.members for file in dataset.files]
        companions: dict[str, Dataset] = {}
        for step in self.steps:
            if isinstance(step, Operation):
                stage = stage.after(step, side_inputs)
                _gather_companions(companions, stage.members)
        dataset = stage.together
        picture = (
            None if self.drawing is None else stage.load(self.drawing, side_inputs)
        )
        return Result(
            dataset, picture, (*read, *side_inputs.paths), self.layout
        ), companions

    def _check_places(self) -> None:
        if self.output is not None:
            picture = None if self.drawing is None else type(self.drawing)
            kind = check_place(self.output, picture, self.layout)
            check_output(self.output, self.overwrite, (), kind)
        for name in (name for step in self.steps for name in step.writes()):
            check_companion(Path(name), self.output, overwrite=self.overwrite)


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


def _hold_the_same(first: Dataset, second: Dataset) -> bool:
    if first is second:
        return True
    pairs = zip(first.variables.values(), second.variables.values(), strict=False)
    return first.variables.keys() == second.variables.keys() and all(
        np.array_equal(read_small(a.data), read_small(b.data)) for a, b in pairs
    )
