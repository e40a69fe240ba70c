"""Parameters of operations: what they mean, and how the text of a value is read and written."""

from __future__ import annotations

import dataclasses
import functools
import types
import typing
from collections.abc import Iterable
from dataclasses import dataclass
from enum import Enum
from pathlib import PurePath
from typing import Any

import numpy as np

from rhodolite.errors import UsageError, nearest_names
from rhodolite.model.typed_value import TypedValue


def parameter(help: str, *, default: Any = None, example: str = "") -> Any:
    """Declare a parameter of an operation.

    Parameters
    ----------
    help : str
        What it means, in one clause without a full stop.
    default : object
        Its value when it is not given.
    example : str
        How a value is typed; stands for the value in help texts.
    """
    return dataclasses.field(
        default=default, metadata={"help": help, "example": example}
    )


@dataclass(frozen=True)
class Parameter:
    """One declared parameter.

    Attributes
    ----------
    name : str
        As it is written on the command line (without dashes), in studies and in records.
    field : str
        Name of the dataclass field.
    type : type
        Type of its values, without None.
    help, example : str
    default : object
    """

    name: str
    field: str
    type: Any
    help: str
    example: str
    default: Any

    @property
    def switch(self) -> bool:
        return self.type is bool

    @property
    def repeats(self) -> bool:
        """Whether it can be given several times."""
        return self._typed is not None and self._typed.repeats

    @property
    def listed(self) -> bool:
        """Whether a value is a list with commas, to which a second one is added."""
        typed = self._typed
        return typing.get_origin(self.type) is tuple or (
            typed is not None and typed.listed
        )

    @property
    def second_words(self) -> tuple[str, ...]:
        """Beginnings of values that another word follows."""
        return () if self._typed is None else self._typed.second_words

    @property
    def _typed(self) -> type[TypedValue] | None:
        is_typed = isinstance(self.type, type) and issubclass(self.type, TypedValue)
        return self.type if is_typed else None

    @property
    def choices(self) -> tuple[str, ...]:
        if isinstance(self.type, type) and issubclass(self.type, Enum):
            return tuple(str(member.value) for member in self.type)
        return ()

    @property
    def metavar(self) -> str:
        """What stands for a value in help texts: the choices, an example, or the kind of number."""
        kinds = {int: "N", float: "NUMBER", str: "TEXT"}
        return (
            "|".join(self.choices)
            or self.example
            or kinds.get(self.type, self.name.upper())
        )

    def parse(self, value: Any) -> Any:
        """Return a value of the parameter's type for text or for what a study file holds.

        Raises
        ------
        UsageError
            If it cannot be read; the message starts with the name of the option.
        """
        if value is None or self._fits(value):
            return value
        try:
            if self._typed is not None and (
                self._is_pair(value) or not _is_plain(value)
            ):
                return self._typed.of(value)
            if self._typed is not None and self._typed.spans:
                value = _as_range(value)
            return self._parse_text(_usable(value))
        except ValueError as error:
            raise UsageError(f"--{self.name}: {error}") from None

    def format(self, value: Any) -> str | int | float | bool | list[str]:
        """Return the text (or number, truth value, list of texts) that `parse` reads back."""
        if self.repeats:
            return list(value.texts())
        if isinstance(value, tuple):
            return ",".join(value)
        if isinstance(value, Enum):
            return str(value.value)
        return value if isinstance(value, (bool, int, float)) else str(value)

    def _fits(self, value: Any) -> bool:
        if typing.get_origin(self.type) is tuple:
            return isinstance(value, tuple)
        if self.type is float and isinstance(value, int):
            return False
        return isinstance(value, self.type) and not (
            isinstance(value, bool) and self.type is not bool
        )

    def _is_pair(self, value: Any) -> bool:
        pairs = self._typed is not None and self._typed.takes_pairs
        return pairs and isinstance(value, tuple) and len(value) == 2

    def _parse_text(self, value: Any) -> Any:
        if typing.get_origin(self.type) is tuple:
            return _split([value] if isinstance(value, str) else value)
        if self.choices:
            return self._choose(str(value))
        if self.repeats:
            texts = [value] if isinstance(value, (str, PurePath)) else value
            return self.type.parse([str(text) for text in texts])
        if self.listed and isinstance(value, (list, tuple)):
            return self.type.parse(",".join(str(part) for part in value))
        if self._typed is not None:
            return self.type.parse(value if isinstance(value, str) else _as_text(value))
        return self._parse_plain(value)

    def _choose(self, text: str) -> Any:
        try:
            return self.type(text)
        except ValueError:
            hint = nearest_names(text, self.choices)
            raise ValueError(f"'{text}' is not offered. {hint}") from None

    def _parse_plain(self, value: Any) -> Any:
        """Return a number or a text; truth values are neither."""
        if self.type in (int, float) and not isinstance(value, bool):
            kind = "whole number" if self.type is int else "number"
            try:
                return self.type(value)
            except (TypeError, ValueError):
                raise ValueError(f"'{value}' is not a {kind}") from None
        if self.type is str and isinstance(value, (int, float, PurePath)):
            return str(value)
        raise ValueError(f"{value!r} cannot be used here")


def _split(given: Iterable[Any]) -> tuple[str, ...]:
    parts = [part.strip() for text in given for part in str(text).split(",")]
    return tuple(part for part in parts if part)


@functools.cache
def parameters(cls: type) -> tuple[Parameter, ...]:
    """Return the parameters that an operation declares, in order."""
    hints = typing.get_type_hints(cls)
    return tuple(
        Parameter(
            name=field.name.rstrip("_").replace("_", "-"),
            field=field.name,
            type=_without_none(hints[field.name]),
            help=field.metadata["help"],
            example=field.metadata["example"],
            default=field.default,
        )
        for field in dataclasses.fields(cls)
    )


def _without_none(hint: Any) -> Any:
    if isinstance(hint, types.UnionType) or typing.get_origin(hint) is typing.Union:
        inner = [part for part in typing.get_args(hint) if part is not type(None)]
        return inner[0]
    return hint


def _is_plain(value: Any) -> bool:
    """Return whether a value is text, a number, a date, or several of them."""
    return isinstance(value, _PLAIN) or hasattr(value, "isoformat")


_PLAIN = (
    str,
    bytes,
    int,
    float,
    np.number,
    np.datetime64,
    PurePath,
    list,
    tuple,
    slice,
    range,
    dict,
)


def _as_range(value: Any) -> Any:
    """Return two values, which are the ends of a range, as the text of it."""
    if isinstance(value, tuple) and len(value) == 2:
        return _usable(slice(*value))
    return value


def _ends_of(value: Any) -> tuple[Any, Any] | None:
    """Return the first and last value of a range or slice without a step; None of others."""
    if isinstance(value, range) and value.step == 1 and len(value):
        return value[0], value[-1]
    if isinstance(value, slice) and value.step is None:
        return value.start, value.stop
    return None


def _usable(value: Any) -> Any:
    """Return a value with dates and ranges as text; tables, truth values and the like are
    refused."""
    if isinstance(value, (list, tuple)):
        return [_usable(part) for part in value]
    if (ends := _ends_of(value)) is not None:
        first, last = ("" if end is None else _usable(end) for end in ends)
        return f"{first}..{last}"
    if hasattr(value, "isoformat"):  # dates of any calendar
        return value.isoformat()
    if isinstance(value, np.datetime64):
        return str(value)
    if isinstance(value, bool):
        # As it is written in study files.
        raise ValueError(f"{str(value).lower()} cannot be used here")
    if not isinstance(value, (str, int, float, np.number, PurePath)):
        raise ValueError(f"{value!r} cannot be used here")
    return value


def _as_text(value: Any) -> Any:
    """Return numbers, paths and lists, as Python and study files have them, as text to parse."""
    if isinstance(value, (list, tuple)):
        return ",".join(str(part) for part in value)
    return str(value)
