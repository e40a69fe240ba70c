"""Attributes of variables, checked once as they come from a file."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from rhodolite.errors import DataError, warn
from rhodolite.model.cf.vocabulary import LIMITS, PACKING, TEXT_ATTRIBUTES


def check_attributes(
    label: object, name: str, attributes: Mapping[str, Any], *, numeric: bool = True
) -> dict[str, Any]:
    """Return attributes of which those that CF defines are of the kind that it says.

    What makes no sense is left out with a warning where the values can be known without it.

    Parameters
    ----------
    label : object
        The file, for messages.
    name : str
        Of the variable.
    attributes : mapping of str to object
    numeric : bool
        Whether the variable holds numbers.

    Raises
    ------
    DataError
        If a scale or an offset is not a number, so that the values cannot be known.
    """
    checked: dict[str, Any] = {}
    for key, value in attributes.items():
        if key in TEXT_ATTRIBUTES:
            text = _as_text(value, number_is_text=key == "units")
            if text is None:
                warn(
                    f"{label}: the attribute {key} of {name} is not text and is left out"
                )
                continue
            checked[key] = text
        elif key in PACKING:
            checked[key] = _check_number(label, name, key, value)
        elif numeric and key in ("_FillValue", *LIMITS):
            if not _holds_numbers(value):
                warn(
                    f"{label}: the attribute {key} of {name} is not a number and is left out"
                )
                continue
            written = np.asarray(value).dtype.kind in "OUS"
            checked[key] = (
                np.asarray(value).astype(np.float64)[()] if written else value
            )
        else:
            checked[key] = value
    return checked


def _as_text(value: Any, *, number_is_text: bool) -> str | None:
    """Return the text of an attribute; None where it is of another kind."""
    if isinstance(value, bytes):
        return value.decode("utf-8", "replace")
    if isinstance(value, str):
        return str(value)
    values = np.asarray(value).reshape(-1)
    if values.size and values.dtype.kind in "OUS":
        return " ".join(str(item) for item in values)
    if number_is_text and values.size == 1 and values.dtype.kind in "fiu":
        return f"{values[0]:g}"
    return None


def _holds_numbers(value: Any) -> bool:
    """Return whether a value is one or several numbers, or text of them."""
    try:
        return bool(np.asarray(value).astype(np.float64).size)
    except (TypeError, ValueError):
        return False


def _check_number(label: object, name: str, key: str, value: Any) -> Any:
    """Return a scale or an offset as it was, if it is one finite number."""
    values = np.asarray(value).reshape(-1)
    try:
        number = float(values[0]) if values.size == 1 else np.nan
    except (TypeError, ValueError):
        number = np.nan
    if not np.isfinite(number) or (key == "scale_factor" and number == 0):
        shown = str(value)[:40]
        raise DataError(
            f"{label}: the attribute {key} of {name} is '{shown}' and not a number to calculate "
            f"with, so the values of {name} are unknown"
        )
    return number if values.dtype.kind in "OUS" else value
