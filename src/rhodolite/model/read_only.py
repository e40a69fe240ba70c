"""Mappings that are values: read by whoever has them, changed by nobody."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NoReturn

import numpy as np


class ReadOnly(dict[str, Any]):
    """A dictionary of its own that refuses to be changed."""

    def __init__(self, content: Mapping[str, Any]) -> None:
        super().__init__({key: _frozen(value) for key, value in content.items()})

    def _refuse(self, *_: Any, **__: Any) -> NoReturn:
        raise TypeError(
            "attributes are read-only, since other datasets share them; annotate(set=...) returns "
            "a dataset with others, edit(key=value) a variable"
        )

    __setitem__ = __delitem__ = update = pop = popitem = clear = setdefault = (
        __ior__
    ) = _refuse

    def __reduce__(self) -> tuple[Any, ...]:
        return ReadOnly, (dict(self),)

    def __copy__(self) -> ReadOnly:
        return self

    def __deepcopy__(self, _: Any) -> ReadOnly:
        return self


def _frozen(value: Any) -> Any:
    """Return a value that cannot be changed in place where it is an array."""
    if not isinstance(value, np.ndarray) or not value.flags.writeable:
        return value
    copy = value.copy()
    copy.setflags(write=False)
    return copy


def as_read_only(content: Mapping[str, Any]) -> ReadOnly:
    """Return a mapping that nobody can change, of a copy of the content where somebody could."""
    return content if isinstance(content, ReadOnly) else ReadOnly(content)
