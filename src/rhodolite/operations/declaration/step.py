"""Steps of a chain: what every operation and every drawing is."""

from __future__ import annotations

import dataclasses
from abc import ABC, abstractmethod
from typing import Any, ClassVar, Self

from rhodolite.errors import DataError, UsageError
from rhodolite.model.cf.actual_range import without_old_ranges
from rhodolite.model.cf.directions import warn_of_directions
from rhodolite.model.dataset import Dataset
from rhodolite.model.typed_value import FileReader, FileValue
from rhodolite.operations.declaration.parameter import parameters
from rhodolite.operations.declaration.plain import to_plain


class Step(ABC):
    """Base class of what follows a verb: a frozen dataclass whose fields are made by
    `parameter`.

    Parameters are given as values of their types or as the text that is typed for them. They are
    read when the step is made, and `check` is called when all of them are known.

    Attributes
    ----------
    verb : str
        The word that people type; the name of the class in lower case unless it says otherwise.
    draws : bool
        Whether it makes a figure, and so ends a chain.
    prints_result : bool
        Whether it has something to say, so that a chain that it ends needs no output.
    runs_before_normalise : bool
        Whether it says how to understand an input, before anything is guessed.
    needs_all_members : bool
        Whether the members of an ensemble are put side by side before it.
    """

    verb: ClassVar[str]
    draws: ClassVar[bool] = False
    prints_result: ClassVar[bool] = False
    runs_before_normalise: ClassVar[bool] = False

    def __init_subclass__(cls, verb: str = "", **settings: Any) -> None:
        super().__init_subclass__(**settings)
        cls.verb = verb or cls.__name__.lower()

    def __post_init__(self) -> None:
        for declared in parameters(type(self)):
            value = declared.parse(getattr(self, declared.field))
            object.__setattr__(self, declared.field, value)
        self.check()

    @property
    def needs_all_members(self) -> bool:
        return False

    def check(self) -> None:  # noqa: B027
        """Refuse parameters that do not go together, by raising UsageError."""

    def writes(self) -> tuple[str, ...]:
        """Return the files that are written beside the output of the chain."""
        return ()

    def sources(self) -> tuple[str, ...]:
        """Return where the formulas of what it computes come from, as reports cite them."""
        values = [getattr(self, declared.field) for declared in parameters(type(self))]
        return tuple(
            source for value in values for source in getattr(value, "sources", ())
        )

    def loaded(self, reader: FileReader) -> Self:
        """Return the step with everything read that its parameters name."""
        changes = {}
        for declared in parameters(type(self)):
            value = getattr(self, declared.field)
            if isinstance(value, FileValue):
                changes[declared.field] = value.loaded(reader)
        return dataclasses.replace(self, **changes) if changes else self  # type: ignore[type-var]

    def check_loaded(self) -> None:
        """Refuse to work with files that nobody has read, by raising UsageError."""
        for declared in parameters(type(self)):
            value = getattr(self, declared.field)
            if isinstance(value, FileValue) and not value.is_loaded:
                method = f"draw_{self.verb}" if self.draws else self.verb
                raise UsageError(
                    f"{self.verb}: what {declared.field} names has not been read; call "
                    f"data.{method}(...) or data.apply(step), which read it"
                )


class Operation(Step):
    """Base class of operations, which make a dataset of a dataset.

    An operation is pure: it opens nothing, runs nothing and writes nothing. What it computes is
    lazy; what is to be written beside the output goes along as `companions` of the dataset.
    """

    @abstractmethod
    def apply(self, dataset: Dataset) -> Dataset:
        """Return what the operation makes of a dataset."""

    def combines_values(self) -> bool:
        """Return whether several values of a variable make one, such as their mean."""
        return True

    def __call__(self, dataset: Dataset) -> Dataset:
        """Return what the operation makes of a dataset, with the operation on its record."""
        self.check_loaded()
        if self.combines_values():
            warn_of_directions(dataset.plain.fields)
        result = without_old_ranges([dataset.plain], self.apply(dataset.plain))
        self._need_one_length(result)
        record = (*dataset.record, to_plain(self))
        return dataset.wrap(dataclasses.replace(result, record=record))

    def _need_one_length(self, result: Dataset) -> None:
        """Refuse a result in which an axis that is new has the name of one that was there."""
        lengths = result.lengths
        for variable in result.variables.values():
            for name, size in zip(variable.dimensions, variable.shape, strict=True):
                if lengths[name] != size:
                    raise DataError(
                        f"{self.verb}: the data have a dimension {name} already, and the result "
                        f"has one of another length ({size} and {lengths[name]}); call theirs "
                        f"something else first: annotate --rename {name}=NAME"
                    )
