"""Operations declared once: from a frozen dataclass come options, study keys, records and reference.

An operation is a frozen dataclass whose fields are made with `parameter`. The type of a field
says how its text is read: classes with a `parse` method, enumerations, numbers, text, switches,
and tuples of names.
"""

from __future__ import annotations

import dataclasses
import functools
import types
import typing
from collections.abc import Mapping
from dataclasses import dataclass
from enum import Enum
from typing import Any, TypeVar

from rhodolite.errors import UsageError, nearest_names
from rhodolite.model.dataset import Dataset

C = TypeVar("C", bound=type)


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
    return dataclasses.field(default=default, metadata={"help": help, "example": example})


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
        return bool(getattr(self.type, "repeats", False))

    @property
    def listed(self) -> bool:
        """Whether a value is a list with commas, to which a second one is added."""
        return typing.get_origin(self.type) is tuple or bool(getattr(self.type, "listed", False))

    @property
    def choices(self) -> tuple[str, ...]:
        if isinstance(self.type, type) and issubclass(self.type, Enum):
            return tuple(str(member.value) for member in self.type)
        return ()

    def parse(self, value: Any) -> Any:
        """Return a value of the parameter's type for text or for what a study file holds.

        Raises
        ------
        UsageError
            If it cannot be read; the message starts with the name of the option.
        """
        if value is None or self._fits(value):
            return value
        if isinstance(value, Dataset) and hasattr(self.type, "of"):
            return self.type.of(value)
        try:
            return self._parse_text(value)
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
        return isinstance(value, self.type) and not (isinstance(value, bool) and self.type is not bool)

    def _parse_text(self, value: Any) -> Any:
        if typing.get_origin(self.type) is tuple:
            given = [value] if isinstance(value, str) else value
            parts = [part for text in given for part in str(text).split(",")]
            return tuple(part.strip() for part in parts if part.strip())
        if self.choices:
            if str(value) not in self.choices:
                raise ValueError(f"'{value}' is not offered. {nearest_names(str(value), self.choices)}")
            return self.type(str(value))
        if self.repeats:
            return self.type.parse(value)
        if self.listed and isinstance(value, (list, tuple)):
            return self.type.parse(",".join(str(part) for part in value))
        if hasattr(self.type, "parse"):
            return self.type.parse(value if isinstance(value, str) else _as_text(value))
        if self.type in (int, float) and not isinstance(value, bool):
            try:
                return self.type(value)
            except (TypeError, ValueError):
                raise ValueError(f"'{value}' is not a {'whole number' if self.type is int else 'number'}") from None
        if self.type is str and isinstance(value, (int, float)):
            return str(value)
        raise ValueError(f"{value!r} cannot be used here")


def operation(cls: C) -> C:
    """Turn a frozen dataclass into an operation whose parameters also accept text.

    The verb is the class's name in lower case. A method `check`, if there
    is one, is called when the parameters are known and may raise UsageError. Every dataset that the
    operation returns has it on record.
    """
    fill_in = cls.__init__  # type: ignore[misc]
    work = cls.__call__

    @functools.wraps(fill_in)
    def initialise(self: Any, *args: Any, **settings: Any) -> None:
        fill_in(self, *args, **settings)
        for declared in parameters(cls):
            object.__setattr__(self, declared.field, declared.parse(getattr(self, declared.field)))
        if hasattr(self, "check"):
            self.check()

    @functools.wraps(work)
    def recorded(self: Any, dataset: Any, *others: Any) -> Any:
        result = work(self, dataset, *others)
        if isinstance(result, Dataset):
            return dataclasses.replace(result, record=(*dataset.record, to_plain(self)))
        return result

    cls.__init__ = initialise  # type: ignore[misc]
    cls.__call__ = recorded  # type: ignore[method-assign]
    cls.verb = cls.__name__.lower()  # type: ignore[attr-defined]
    return cls


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


def summary(cls: type) -> str:
    """Return the first line of an operation's docstring."""
    return (cls.__doc__ or "").strip().splitlines()[0]


def description(cls: type) -> str:
    """Return an operation's docstring up to its first section, as paragraphs."""
    import inspect

    lines: list[str] = []
    for line in inspect.cleandoc(cls.__doc__ or "").splitlines():
        if line and set(line) == {"-"}:
            lines.pop()
            break
        lines.append(line)
    return "\n".join(lines).strip()


def to_plain(step: Any) -> dict[str, Any]:
    """Return an operation as a plain dictionary: its verb and the parameters that differ from the default."""
    plain: dict[str, Any] = {"verb": type(step).verb}
    for declared in parameters(type(step)):
        value = getattr(step, declared.field)
        if value is not None and value != declared.default:
            plain[declared.name] = declared.format(value)
    return plain


def from_plain(plain: Mapping[str, Any], operations: Mapping[str, type]) -> Any:
    """Return the operation that a plain dictionary describes.

    Raises
    ------
    UsageError
        If the verb or a parameter is not known, or a value cannot be read.
    """
    settings = dict(plain)
    verb = str(settings.pop("verb", ""))
    if verb not in operations:
        raise UsageError(f"no verb '{verb}'. {nearest_names(verb, operations)}")
    declared = {p.name: p for p in parameters(operations[verb])}
    for name in settings:
        if name not in declared:
            raise UsageError(f"{verb} has no parameter '{name}'. {nearest_names(name, declared)}")
    return operations[verb](**{declared[name].field: value for name, value in settings.items()})


def _without_none(hint: Any) -> Any:
    if isinstance(hint, types.UnionType) or typing.get_origin(hint) is typing.Union:
        inner = [part for part in typing.get_args(hint) if part is not type(None)]
        return inner[0]
    return hint


def _as_text(value: Any) -> Any:
    """Return numbers and lists, as Python and study files have them, as text to parse."""
    if isinstance(value, (list, tuple)):
        return ",".join(str(part) for part in value)
    return str(value) if isinstance(value, (int, float)) else value
