"""Another dataset that an operation or a drawing needs besides the first."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Self

from rhodolite.errors import DataError
from rhodolite.model.dataset import Dataset
from rhodolite.model.ensemble import find_member_dimension
from rhodolite.model.typed_value import FileReader, FileValue


@dataclass(frozen=True)
class OtherDataset(FileValue):
    """A file or pattern, or a dataset that is open already.

    Attributes
    ----------
    location : str
    opened : Dataset, optional
    variable : str, optional
        The variable of it that is meant.
    """

    location: str
    opened: Dataset | None = None
    variable: str | None = None

    @classmethod
    def parse(cls, text: str) -> Self:
        """Read `FILE` or, where a name follows the last colon, `FILE:NAME`."""
        location, colon, name = text.rpartition(":")
        if colon and location and name.isidentifier():
            return cls(location, None, name)
        return cls(text)

    @classmethod
    def of(cls, data: Dataset) -> Self:
        """Return an open dataset as another one."""
        return cls(data.label, data.plain)

    @property
    def is_loaded(self) -> bool:
        return self.opened is not None

    def loaded(self, reader: FileReader) -> Self:
        return (
            self
            if self.is_loaded
            else replace(self, opened=reader.dataset(self.location))
        )

    @property
    def dataset(self) -> Dataset:
        """The dataset.

        Raises
        ------
        DataError
            If it has not been opened.
        """
        if self.opened is None:
            raise DataError(
                f"{self.location} has not been opened; give what rhodolite.read returns"
            )
        return self.opened

    @property
    def has_members(self) -> bool:
        """Whether it holds the members of an ensemble side by side."""
        return (
            self.opened is not None and find_member_dimension(self.opened) is not None
        )

    def __str__(self) -> str:
        return (
            self.location
            if self.variable is None
            else f"{self.location}:{self.variable}"
        )
