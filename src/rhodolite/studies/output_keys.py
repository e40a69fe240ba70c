"""What decides whether an output is up to date: all that it is made of, in a few letters."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from rhodolite.model.typed_value import FileValue
from rhodolite.pipeline.inputs import Input
from rhodolite.studies.description import NamedStep, Output, Report, Study
from rhodolite.studies.fingerprints import files_named, fingerprint, last_change
from rhodolite.version import __version__


class OutputKeys:
    """Keys of the outputs of a study, of the state in which their inputs are.

    Parameters
    ----------
    study : Study
    """

    def __init__(self, study: Study) -> None:
        self._study = study
        self._of_names: dict[str, str] = {}

    def of_output(self, output: Output) -> str:
        """Return the key of an output: of its steps, inputs, layout and picture."""
        for name in self._study.all_needs(output.needs):
            self._of_name(name)  # in order, so that long chains do not call each other
        picture = None if output.picture is None else self._of_step(output.picture)
        return _digest(
            [__version__, self._of_name(output.of), repr(output.layout), picture]
        )

    def of_report(self, page: Report) -> str:
        """Return the key of a report: of the outputs that it shows, and what it says of them."""
        shown = [self._study.outputs[name] for name in page.shows]
        said = [
            [output.path, output.heading, output.note, self.of_output(output)]
            for output in shown
        ]
        return _digest([__version__, self._study.title, page.text, said])

    def _of_name(self, name: str) -> str:
        if name not in self._of_names:
            source = self._study.inputs.get(name)
            self._of_names[name] = (
                self._of_step(self._study.steps[name])
                if source is None
                else _digest([repr(source), _states(files_of(source))])
            )
        return self._of_names[name]

    def _of_step(self, step: NamedStep) -> str:
        settings = {field: str(value) for field, value in step.settings.items()}
        values = [
            value for value in step.settings.values() if isinstance(value, FileValue)
        ]
        beside = _states(
            files_named(name for value in values for name in value.names_of_files())
        )
        needs = [self._of_name(name) for name in step.needs]
        others = dict(step.others)
        return _digest(
            [step.kind.verb, step.variables, settings, beside, others, needs]
        )


def files_of(source: Input) -> list[Path]:
    """Return all files that an input is read from, that of its description included."""
    described = [] if source.description is None else [source.description]
    return files_named([*source.files, *described])


def _states(paths: Iterable[Path]) -> list[Any]:
    return [[str(path), last_change(path), fingerprint(path)] for path in paths]


def _digest(value: Any) -> str:
    text = json.dumps(value, sort_keys=True, default=str)
    return hashlib.blake2b(text.encode(), digest_size=16).hexdigest()
