"""Attributes as the JSON of a Zarr store holds them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np


def plain_attributes(attributes: Mapping[str, Any]) -> dict[str, Any]:
    """Return attributes as plain values; numbers that JSON has not are text."""
    return {
        str(key): _plain_value(value)
        for key, value in attributes.items()
        if value is not None
    }


def _plain_value(value: Any) -> Any:
    if isinstance(value, np.ndarray):
        return [_plain_value(item) for item in value.tolist()]
    if isinstance(value, np.generic):
        value = value.item()
    if isinstance(value, bytes):
        return value.decode("utf-8", "replace")
    if not isinstance(value, float) or np.isfinite(value):
        return value
    if np.isnan(value):
        return "NaN"
    return "Infinity" if value > 0 else "-Infinity"
