"""Whether the times of a dataset are those of universal time, or of clocks at a place."""

from __future__ import annotations

from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset

UTC_OFFSET = "utc_offset"
"""Attribute of times that are local, which CF has no word for."""


def local_offset(dataset: Dataset) -> str | None:
    """Return by how much the times of a dataset are ahead of universal time, such as `+09:00`; None
    where they are of universal time, as far as it says."""
    time = dataset.coordinate(Role.TIME)
    offset = None if time is None else time.variable.attributes.get(UTC_OFFSET)
    return None if offset is None else str(offset)
