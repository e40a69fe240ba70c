"""Attributes as somebody wrote them down, made into what every format can hold."""

from __future__ import annotations

import datetime
from collections.abc import Mapping
from typing import Any

import numpy as np

from rhodolite.errors import DataError
from rhodolite.model.cf.vocabulary import STORAGE_ATTRIBUTES

_ADVICE = "write text in quotation marks, a number, or a list of numbers or of texts"
_DATES = (datetime.date, datetime.time, np.datetime64)


def check_given(where: object, attributes: Any) -> dict[str, Any]:
    """Return attributes whose values are text, numbers, and lists of either; dates become text.

    Parameters
    ----------
    where : object
        What they are for, and in which file, for messages.
    attributes : mapping of str to object

    Raises
    ------
    DataError
        If a name or a value cannot be written to a file, or says how values are stored.
    """
    if not isinstance(attributes, Mapping):
        raise DataError(
            f"{where}: attributes are a table, such as comment = 'checked by hand'"
        )
    return {
        _check_name(where, key): _check_value(where, key, attributes[key])
        for key in attributes
    }


def _check_name(where: object, name: Any) -> str:
    if not isinstance(name, str) or not name or "/" in name or not name.isprintable():
        raise DataError(f"{where}: {name!r} cannot be the name of an attribute")
    if name in STORAGE_ATTRIBUTES:
        raise DataError(
            f"{where}: {name} says how numbers are stored, which follows from the data; leave it "
            "out"
        )
    return name


def _check_value(where: object, name: str, value: Any) -> Any:
    if isinstance(value, str):
        return str(value)
    if isinstance(value, _DATES):
        return str(value) if isinstance(value, np.datetime64) else value.isoformat()
    if isinstance(value, bytes):
        return value.decode("utf-8", "replace")
    values = list(value) if isinstance(value, (list, tuple)) else value
    if (
        isinstance(values, list)
        and values
        and all(isinstance(part, str) for part in values)
    ):
        return values
    if _is_of_numbers(values):
        return (
            value
            if isinstance(value, (int, float, np.ndarray, np.generic))
            else np.array(value)
        )
    raise DataError(
        f"{where}: {name} = {str(value)[:40]} cannot be an attribute; {_ADVICE}"
    )


def _is_of_numbers(value: Any) -> bool:
    """Return whether a value is a number, or a list of them, that fits into 64 bits."""
    try:
        numbers = np.asarray(value)
    except ValueError:  # lists of several lengths
        return False
    return numbers.ndim < 2 and numbers.size > 0 and numbers.dtype.kind in "fiu"
