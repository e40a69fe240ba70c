"""The members of an ensemble: the dimension that they lie along."""

from __future__ import annotations

from rhodolite.errors import DataError
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable

_NAMES = (
    "member",
    "realization",
    "realisation",
    "ensemble",
    "ensemble_member",
    "number",
    "model",
)


def member_dimension(dataset: Dataset) -> str:
    """Return the dimension of an ensemble's members.

    Raises
    ------
    DataError
        If there is none.
    """
    dimension = find_member_dimension(dataset)
    if dimension is None:
        raise DataError(
            f"{dataset.label}: there is no dimension of members; name their files with --members, "
            "such as summarise a.nc b.nc --members --over ensemble"
        )
    return dimension


def find_member_dimension(dataset: Dataset) -> str | None:
    """Return the dimension of an ensemble's members; None where there is none."""
    for variable in dataset.variables.values():
        if _numbers_members(variable):
            return variable.dimensions[0]
    return next((name for name in dataset.lengths if is_member_dimension(name)), None)


def _numbers_members(variable: Variable) -> bool:
    realization = variable.attributes.get("standard_name") == "realization"
    return realization and len(variable.dimensions) == 1


def is_member_dimension(name: str) -> bool:
    """Return whether a dimension is called as those of members are."""
    return name.lower() in _NAMES
