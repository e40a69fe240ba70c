"""Values that people type: each is read from text and written back as the same text."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from typing import Any, ClassVar, Protocol, Self


class TypedValue(ABC):
    """Base class of values that options, study files and Python give as text.

    Attributes
    ----------
    repeats : bool
        Whether the option can be given several times; `parse` then takes all texts at once, and
        `texts` returns them.
    listed : bool
        Whether the text is a list with commas, to which a second one is added.
    spans : bool
        Whether it is a range, so that two values in Python are its ends.
    takes_pairs : bool
        Whether two values in Python are what `of` takes.
    second_words : tuple of str
        Beginnings that another word follows, such as ``count-above`` before ``1mm/day``.
    """

    repeats: ClassVar[bool] = False
    listed: ClassVar[bool] = False
    spans: ClassVar[bool] = False
    takes_pairs: ClassVar[bool] = False
    second_words: ClassVar[tuple[str, ...]] = ()

    @classmethod
    @abstractmethod
    def parse(cls, text: Any) -> Self:
        """Return the value that a text stands for, or raise ValueError."""

    @classmethod
    def of(cls, data: Any) -> Self:
        """Return the value for what is neither text nor numbers, such as data that are open
        already, or raise ValueError."""
        raise ValueError(f"a {type(data).__name__} cannot be used here")

    def texts(self) -> list[str]:
        """Return the texts that `parse` reads back, of a value that repeats."""
        return [str(self)]


class FileReader(Protocol):
    """What reads the files that parameters name; operations themselves open nothing."""

    def dataset(self, location: str) -> Any:
        """Return the dataset in a file, in files that match a pattern, or at an address."""

    def sites(self, table: Any) -> Any:
        """Return the variables that describe the sites of a table, in a file or in memory, and the
        line of each site."""

    def outlines(self, name: str) -> Sequence[Any]:
        """Return the outlines of a country, of land or sea, or of a file."""


class FileValue(TypedValue):
    """Base class of values that name files, which are read before an operation is applied."""

    @property
    @abstractmethod
    def is_loaded(self) -> bool:
        """Whether what the files hold is there."""

    @abstractmethod
    def loaded(self, reader: FileReader) -> Self:
        """Return the value with what its files hold."""

    def names_of_files(self) -> tuple[str, ...]:
        """Return the texts of which each may name a file, as people type them."""
        return (str(self),)

    def renamed(self, rename: Callable[[str], str]) -> Self:
        """Return a value that names its files in another way.

        Parameters
        ----------
        rename : callable
            Returns the new text for each of the old.
        """
        return type(self).parse(rename(str(self)))
