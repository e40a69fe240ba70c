"""Studies carried out: what is there already is left, what is needed is computed once."""

from __future__ import annotations

import contextlib
import functools
import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from rhodolite.arrays import Engine
from rhodolite.errors import (
    DataError,
    OutputError,
    RhodoliteWarning,
    UsageError,
    keeping_warnings,
    nearest_names,
)
from rhodolite.formats.atomic_output import (
    check_output,
    complete_or_nothing,
    size_on_disk,
)
from rhodolite.model.dataset import Dataset
from rhodolite.operations.declaration import Step
from rhodolite.operations.subset import Subset
from rhodolite.pipeline.deep_calls import deep_calls
from rhodolite.pipeline.plan import Plan
from rhodolite.pipeline.provenance import Origin
from rhodolite.pipeline.result import Result, check_place
from rhodolite.pipeline.side_inputs import SideInputs
from rhodolite.pipeline.stage import Stage
from rhodolite.studies import journal
from rhodolite.studies.description import NamedStep, Output, Report, Study
from rhodolite.studies.done import DoneBefore
from rhodolite.studies.fingerprints import files_named
from rhodolite.studies.output_keys import OutputKeys, files_of
from rhodolite.studies.record import (
    move_study,
    restrict_study,
    tell_making,
    write_study,
)

Written = Callable[[Path, tuple[int, int]], None]


@dataclass
class StudyRun:
    """One run of a study, with the study's folder as the folder that relative paths begin at.

    Parameters
    ----------
    study : Study
    into : Path, optional
        Folder of the outputs; that of the study by default.
    only : tuple of str
        Outputs to be made; all by default.
    fresh : bool
        Whether outputs that are up to date are made again.
    overwrite : bool
        Whether files that this study has not made may be replaced.
    home : Path, optional
        Folder from which inputs are named; that of the study by default.
    remember : bool
        Whether what has been made is put on record, for the next run.
    """

    study: Study
    into: Path | None = None
    only: tuple[str, ...] = ()
    fresh: bool = False
    overwrite: bool = False
    home: Path | None = None
    remember: bool = True
    _nodes: dict[str, Stage] = field(default_factory=dict, repr=False)
    _warned: list[RhodoliteWarning] = field(default_factory=list, repr=False)

    def __post_init__(self) -> None:
        for name in self.only:
            known = [*self.study.outputs, *self.study.reports]
            if name not in known:
                raise UsageError(
                    f"--only {name}: {self.study.path} has no such output. "
                    f"{nearest_names(name, known)}"
                )
        self._home = (self.home or self.study.path.parent).resolve()
        self._into = (self.into or self.study.path.parent).resolve()
        remembered = self._into / f".{self.study.path.name}.done"
        self._done = DoneBefore(remembered if self.remember else None)
        self._reader = SideInputs()
        self._keys = OutputKeys(self.study)

    @property
    def wanted(self) -> list[Output]:
        """The outputs that are to be up to date at the end; a report needs those that it shows."""
        asked = [
            shown
            for name in self.only or self.study.outputs
            for shown in (
                (name,)
                if name in self.study.outputs
                else self.study.reports[name].shows
            )
        ]
        return [self.study.outputs[name] for name in dict.fromkeys(asked)]

    @property
    def pages(self) -> list[Report]:
        """The reports that are to be up to date at the end."""
        reports = self.study.reports
        return [
            report
            for name, report in reports.items()
            if not self.only or name in self.only
        ]

    def split_pages(self) -> tuple[list[Report], list[Report]]:
        """Return the reports that are to be made, and those that are up to date."""
        with self._at_home():
            stale = [
                page
                for page in self.pages
                if self.fresh
                or not self._done.holds(
                    page.path, self._keys.of_report(page), self._into / page.path
                )
            ]
        return stale, [page for page in self.pages if page not in stale]

    def split(self) -> tuple[list[Output], list[Output]]:
        """Return the outputs that are to be made, and those that are up to date."""
        with self._at_home():
            self._refuse_outputs_among_inputs()
            stale = [
                output
                for output in self.wanted
                if self.fresh
                or not self._done.holds(
                    output.path, self._keys.of_output(output), self._place(output)
                )
            ]
        return stale, [output for output in self.wanted if output not in stale]

    def run(self, engine: Engine, written: Written) -> None:
        """Make the outputs that are not up to date; `written` is told of each, as it is there.

        Raises
        ------
        RhodoliteError
            If anything is wrong with the study, the data or an output.
        """
        stale, _ = self.split()
        pages, _ = self.split_pages()
        with (
            self._at_home(),
            deep_calls(len(self.study.steps)),
            keeping_warnings() as self._warned,
        ):
            for output in stale:
                self._check(output)
            for page in pages:
                place = self._into / page.path
                self._make_folder(place)
                check_output(
                    place, self.overwrite or self._done.is_own(page.path, place), ()
                )
            for output in stale:
                self._prepare_needed(output)
            # All at once, so that those that need the same data share the passes over them.
            arrays = [
                variable.data
                for output in stale
                if output.picture is None
                for variable in self._nodes[output.of].together.variables.values()
            ]
            if len(stale) > 1:
                engine.prepare(arrays)
            for output in stale:
                key = self._keys.of_output(output)
                size = self._write(output, engine)
                self._done.keep(output.path, key, self._place(output))
                written(self._place(output), size)
            for page in pages:
                key, place = self._keys.of_report(page), self._into / page.path
                self._write_page(page, place, engine)
                self._done.keep(page.path, key, place)
                written(place, size_on_disk(place))

    def _write_page(self, page: Report, place: Path, engine: Engine) -> None:
        from rhodolite.reports.page import render_page
        from rhodolite.studies.reporting import section_of

        shown = [self.study.outputs[name] for name in page.shows]
        sections = []
        for output in shown:
            self._prepare_needed(output)
            dataset = self._result(output).dataset
            sections.append(
                section_of(
                    self.study,
                    output,
                    self._place(output),
                    dataset,
                    self._steps_to(output),
                    engine,
                )
            )
        first = self._nodes[shown[0].of].together
        part = restrict_study(self.study, page.path)
        making = self._tell_making(part, first)
        study = write_study(move_study(part, self._into), making)
        title = self.study.title or place.stem.replace("_", " ")
        text = render_page(title, page.text, sections, study, making)
        overwrite = self.overwrite or self._done.is_own(page.path, place)
        with complete_or_nothing(place, overwrite, ()) as temporary:
            temporary.write_text(text, encoding="utf-8")

    def _steps_to(self, output: Output) -> list[tuple[NamedStep, Step]]:
        """Return the steps that lead to an output, its drawing included, in order."""
        named = [] if output.picture is None else [output.picture]
        name = output.of
        while name in self.study.steps:
            named.insert(0, self.study.steps[name])
            name = self.study.steps[name].of
        return [(step, self._make(step)) for step in named]

    def plan(self, engine: Engine) -> list[tuple[Output, Plan]]:
        """Return what would be read and written for the outputs that are to be made."""
        stale, _ = self.split()
        with self._at_home(), deep_calls(len(self.study.steps)):
            for output in stale:
                self._prepare_needed(output)
            return [
                (output, self._result(output).plan(self._place(output), engine))
                for output in stale
            ]

    def _refuse_outputs_among_inputs(self) -> None:
        """Refuse a pattern that would read, in the next run, what this one writes."""
        places = {self._place(output) for output in self.study.outputs.values()}
        for name, source in self.study.inputs.items():
            for path in files_named(source.files):
                if path.resolve() in places:
                    raise UsageError(
                        f"{self.study.where('inputs', name)}: {path} is an output of the study, "
                        "too; narrow the pattern, or write the outputs into a folder of their own"
                    )

    def _at_home(self) -> contextlib.AbstractContextManager[None]:
        return contextlib.chdir(self._home)

    def _place(self, output: Output) -> Path:
        return self._into / output.path

    def _check(self, output: Output) -> None:
        """Refuse an output that cannot be written, before anything is computed."""
        place = self._place(output)
        with self._naming("outputs", output.path):
            kind = check_place(
                place,
                None if output.picture is None else output.picture.kind,
                output.layout,
            )
        self._make_folder(place)
        if not self._may_replace(output) and self._done.knows(output.path, place):
            where = self.study.where("outputs", output.path)
            raise OutputError(
                f"{where}: {place} was changed since the study made it; choose another name "
                "or add --overwrite"
            )
        check_output(place, self._may_replace(output), (), kind)

    @contextlib.contextmanager
    def _naming(self, kind: str, name: str) -> Iterator[None]:
        """Say of what goes wrong which line of which study it is about."""
        try:
            yield
        except (DataError, UsageError) as error:
            raise type(error)(f"{self.study.where(kind, name)}: {error}") from None

    def _make_folder(self, place: Path) -> None:
        """Make the folder of an output, unless a link leads to it from within the study's own."""
        named = Path(os.path.normpath(place))
        behind = place.resolve()
        if named.is_relative_to(self._into) and not behind.is_relative_to(self._into):
            raise OutputError(
                f"{self.study.path}: {place.relative_to(self._into)} lies behind a link that leads "
                f"out of the study's folder, to {behind}; name that place itself"
            )
        place.parent.mkdir(parents=True, exist_ok=True)

    def _may_replace(self, output: Output) -> bool:
        return self.overwrite or self._done.is_own(output.path, self._place(output))

    def is_taken(self, output: Output) -> bool:
        """Return whether something is in the place of an output that the study has not made."""
        return self._place(output).exists() and not self._may_replace(output)

    def _prepare_needed(self, output: Output) -> None:
        for name in self.study.all_needs(output.needs):
            if name not in self._nodes:
                self._nodes[name] = self._open(name)

    def _open(self, name: str) -> Stage:
        if name in self.study.inputs:
            with self._naming("inputs", name):
                return self.study.inputs[name].open()
        step = self.study.steps[name]
        with self._naming("steps", name):
            return self._source(step).after(self._make(step), self._reader)

    def _source(self, step: NamedStep) -> Stage:
        """Return what a step begins with: all variables, or those that it is for."""
        stage = self._nodes[step.of]
        chosen = step.variables
        return stage.after(Subset(variable=chosen), self._reader) if chosen else stage

    def _make(self, step: NamedStep) -> Any:
        return step.make(
            {name: self._nodes[name].together for name in step.others.values()}
        )

    def _result(self, output: Output) -> Result:
        """Return what an output will be, of which no value is computed yet."""
        stage, picture = self._nodes[output.of], None
        with self._naming("outputs", output.path):
            if output.picture is not None:
                stage = self._source(output.picture)
                picture = stage.load(self._make(output.picture), self._reader)
        dataset = stage.together
        read = (*(file.path for file in dataset.files), *self._reader.paths)
        return Result(dataset, picture, read, output.layout)

    def _write(self, output: Output, engine: Engine) -> tuple[int, int]:
        result, overwrite = self._result(output), self._may_replace(output)
        with self._naming("outputs", output.path):
            return result.write(
                self._place(output), engine, self._origin(output), overwrite=overwrite
            )

    def _origin(self, output: Output) -> Origin:
        name = output.of
        while name in self.study.steps:
            name = self.study.steps[name].of
        return Origin(
            self.study.inputs[name].files,
            study=functools.partial(self._text, output),
            note=journal.note,
        )

    def _text(self, output: Output, dataset: Dataset) -> str:
        """Return the study of one output."""
        part = restrict_study(self.study, output.path)
        return write_study(
            move_study(part, self._into), self._tell_making(part, dataset)
        )

    def _tell_making(self, part: Study, dataset: Dataset) -> dict[str, Any]:
        files = [
            str(path) for given in part.inputs.values() for path in files_of(given)
        ]
        return tell_making(files, self._into, dataset, self._warned)
