"""Operations as plain dictionaries, for records and study files, and their docstrings in parts."""

from __future__ import annotations

import inspect
from collections.abc import Mapping
from typing import Any

from rhodolite.errors import UsageError, nearest_names
from rhodolite.operations.declaration.parameter import parameters


def summary(cls: type) -> str:
    """Return the first line of an operation's docstring."""
    return (cls.__doc__ or "").strip().splitlines()[0]


def description(cls: type) -> str:
    """Return an operation's docstring up to its first section, as paragraphs."""
    lines: list[str] = []
    for line in inspect.cleandoc(cls.__doc__ or "").splitlines():
        if line and set(line) == {"-"}:
            lines.pop()
            break
        lines.append(line)
    return "\n".join(lines).strip()


def to_plain(step: Any, *, defaults: bool = False) -> dict[str, Any]:
    """Return an operation as a plain dictionary: its verb and the parameters that differ from the
    default.

    Parameters
    ----------
    step : object
    defaults : bool
        Whether all that have a value are returned.
    """
    kind: type = type(step)
    plain: dict[str, Any] = {"verb": step.verb}
    for declared in parameters(kind):
        value = getattr(step, declared.field)
        if value is not None and (
            value != declared.default or (defaults and value != ())
        ):
            plain[declared.name] = declared.format(value)
    return plain


def from_plain(plain: Mapping[str, Any], operations: Mapping[str, type]) -> Any:
    """Return the operation that a plain dictionary describes.

    Parameters
    ----------
    plain : mapping of str to object
    operations : mapping of str to type
        Classes by verb.

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
            raise UsageError(
                f"{verb} has no parameter '{name}'. {nearest_names(name, declared)}"
            )
    return operations[verb](
        **{declared[name].field: value for name, value in settings.items()}
    )
