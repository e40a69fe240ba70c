"""Attributes of several datasets that become one."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from rhodolite.model.dataset import Dataset


def common_attributes(datasets: Sequence[Dataset]) -> dict[str, Any]:
    """Return the attributes that hold for every dataset, and the histories of all."""
    first, *others = datasets
    attributes = {
        key: value
        for key, value in first.attributes.items()
        if all(
            key in other.attributes and np.array_equal(other.attributes[key], value)
            for other in others
        )
    }
    lines = [
        line
        for dataset in datasets
        for line in str(dataset.attributes.get("history", "")).split("\n")
        if line.strip()
    ]
    if lines:
        attributes["history"] = "\n".join(dict.fromkeys(lines))
    return attributes
