"""The members of an ensemble: the dimension that they lie along."""

from __future__ import annotations

from rhodolite.errors import DataError
from rhodolite.model.dataset import Dataset

_NAMES = ("member", "realization", "realisation", "ensemble", "ensemble_member", "number", "model")


def member_dimension(dataset: Dataset) -> str:
    """Return the dimension of an ensemble's members.

    Raises
    ------
    DataError
        If there is none.
    """
    for variable in dataset.variables.values():
        if (
            variable.attributes.get("standard_name") == "realization"
            and len(variable.dimensions) == 1
        ):
            return variable.dimensions[0]
    for name in dataset.lengths:
        if is_member_dimension(name):
            return name
    raise DataError(
        f"{dataset.label}: there is no dimension of members; name their files with --members, such "
        "as summarise a.nc b.nc --members --over ensemble"
    )


def is_member_dimension(name: str) -> bool:
    """Return whether a dimension is called as those of members are."""
    return name.lower() in _NAMES
