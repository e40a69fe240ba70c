"""Another dataset that an operation or a drawing needs besides the first."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Self

from rhodolite.errors import DataError
from rhodolite.model.dataset import Dataset


@dataclass(frozen=True)
class Other:
    """A file or pattern, opened when it is needed, or a dataset that is open already."""

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
    def of(cls, dataset: Dataset) -> Self:
        """Return an open dataset as another one."""
        return cls(dataset.label, dataset)

    @property
    def dataset(self) -> Dataset:
        """The dataset.

        Raises
        ------
        DataError
            If it has not been opened; chains do so.
        """
        if self.opened is None:
            raise DataError(f"{self.location} has not been opened; give what rhodolite.read returns")
        return self.opened

    def __str__(self) -> str:
        return self.location if self.variable is None else f"{self.location}:{self.variable}"
