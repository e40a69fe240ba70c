"""What a study says, as typed values."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from rhodolite.formats.layout import Layout
from rhodolite.model.dataset import Dataset
from rhodolite.operations.declaration import Step
from rhodolite.operations.parameters.other_dataset import OtherDataset
from rhodolite.pipeline.inputs import Input
from rhodolite.studies.toml_lines import TomlLines


@dataclass(frozen=True, eq=False)
class NamedStep:
    """An operation on an input or on what another step has made.

    Parameters
    ----------
    name : str
    of : str
        Name of the input or step.
    settings : mapping of str to object
        Parameters by the fields of the operation; other data that are named in the study are left
        as their name.
    kind : type
        Class of the operation or drawing.
    others : mapping of str to str
        Fields whose value is another input or step, by its name.
    variables : tuple of str
        The variables that it is for; all where it is empty.
    """

    name: str
    of: str
    settings: Mapping[str, Any]
    kind: type[Step]
    others: Mapping[str, str]
    variables: tuple[str, ...] = ()

    @property
    def needs(self) -> tuple[str, ...]:
        """The names of all inputs and steps that it needs."""
        return (self.of, *self.others.values())

    def make(self, datasets: Mapping[str, Dataset]) -> Step:
        """Return the operation, given the data that it needs."""
        others = {
            field: OtherDataset(name, datasets[name])
            for field, name in self.others.items()
        }
        return self.kind(**{**self.settings, **others})


@dataclass(frozen=True, eq=False)
class Output:
    """A file to be written: data or a drawing.

    Parameters
    ----------
    path : str
        Relative to the folder of the outputs.
    of : str
        Name of the input or step.
    layout : Layout
        How data lie on disk.
    picture : NamedStep, optional
        The drawing.
    heading, note : str
        What a report says above it; the heading is its name by default.
    """

    path: str
    of: str
    layout: Layout
    picture: NamedStep | None = None
    heading: str = ""
    note: str = ""

    @property
    def needs(self) -> tuple[str, ...]:
        return (self.of,) if self.picture is None else self.picture.needs


@dataclass(frozen=True)
class Report:
    """A page that shows other outputs, with their numbers in sentences.

    Parameters
    ----------
    path : str
        Relative to the folder of the outputs.
    shows : tuple of str
        Paths of the outputs that it shows, in order.
    text : str
        What stands at its head.
    """

    path: str
    shows: tuple[str, ...]
    text: str = ""


@dataclass(frozen=True)
class Study:
    """What a study file says.

    Parameters
    ----------
    path : Path
    title : str
    inputs : mapping of str to Input
    steps : mapping of str to NamedStep
        In an order in which each comes after all that it needs.
    outputs : mapping of str to Output
    reports : mapping of str to Report
    lines : TomlLines, optional
        Where in its file things stand; without it there is no file.
    """

    path: Path
    title: str
    inputs: Mapping[str, Input]
    steps: Mapping[str, NamedStep]
    outputs: Mapping[str, Output]
    reports: Mapping[str, Report] = field(default_factory=dict)
    lines: TomlLines | None = None

    def where(self, kind: str, name: str) -> str:
        """Return the file and the line of a table, for messages.

        Parameters
        ----------
        kind : {"inputs", "steps", "outputs"}
        name : str
        """
        if self.lines is None:
            return f'{self.path}, [{kind}."{name}"]'
        return f"{self.path}, line {self.lines.find(kind, name)}"

    def all_needs(self, names: Iterable[str]) -> list[str]:
        """Return inputs and steps with all that they need, each after what it needs.

        Parameters
        ----------
        names : iterable of str
        """
        needed, left = set(), list(names)
        while left:
            name = left.pop()
            if name not in needed:
                needed.add(name)
                left += self.steps[name].needs if name in self.steps else ()
        return [name for name in (*self.inputs, *self.steps) if name in needed]
