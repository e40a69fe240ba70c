"""Data between two steps: one dataset, or the members of an ensemble."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TypeVar

from rhodolite.formats.normalise import normalise
from rhodolite.formats.reading_rules import USUAL_RULES, ReadingRules, reading_by
from rhodolite.model.dataset import Dataset
from rhodolite.operations.declaration import Operation, Step
from rhodolite.operations.pairing.ensemble import stack_members
from rhodolite.pipeline.side_inputs import SideInputs

AnyStep = TypeVar("AnyStep", bound=Step)


@dataclass(frozen=True, eq=False)
class Stage:
    """What steps have come to so far. Each member of an ensemble is worked on by itself, until a
    step needs all of them.

    Parameters
    ----------
    members : sequence of Dataset
    names : sequence of str
        Short names of the members.
    is_normalised : bool
        Whether what the files say only halfway has been understood.
    rules : ReadingRules
        How the files are read that steps name.
    """

    members: Sequence[Dataset]
    names: Sequence[str] = ("",)
    is_normalised: bool = False
    rules: ReadingRules = USUAL_RULES

    def each(self, change: Callable[[Dataset], Dataset]) -> Stage:
        """Return the stage with every member changed."""
        return replace(self, members=[change(dataset) for dataset in self.members])

    @cached_property
    def normalised(self) -> Stage:
        """The stage with metadata that say outright what files say halfway."""
        return (
            self
            if self.is_normalised
            else replace(self.each(normalise), is_normalised=True)
        )

    @cached_property
    def together(self) -> Dataset:
        """One dataset, with the members side by side."""
        members = self.normalised.members
        return stack_members(members, self.names) if len(members) > 1 else members[0]

    def after(self, step: Operation, side_inputs: SideInputs) -> Stage:
        """Return what an operation makes of the data.

        Parameters
        ----------
        step : Operation
        side_inputs : SideInputs
            Reads the files that it names.
        """
        # What is named right to begin with need not be guessed, nor can what has been repaired be
        # named any more.
        source = self if step.runs_before_normalise else self.normalised
        loaded = self.load(step, side_inputs)
        if loaded.needs_all_members:
            source = replace(source.normalised, members=[self.together], names=("",))
        return source.each(loaded)

    def load(self, step: AnyStep, side_inputs: SideInputs) -> AnyStep:
        """Return a step with the files read that it names, by the rules of the data."""
        with reading_by(self.rules):
            return step.loaded(side_inputs)
