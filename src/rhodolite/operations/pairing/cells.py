"""Whether two datasets can be calculated with cell by cell."""

from __future__ import annotations

import numpy as np

from rhodolite.errors import DataError, nearest_names
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable

_HORIZONTAL = (Role.LATITUDE, Role.LONGITUDE)


def counterpart(variable: Variable, other: Dataset) -> Variable:
    """Return the variable of another dataset that goes with one: of its name, or the only one of
    its standard name.

    Parameters
    ----------
    variable : Variable
    other : Dataset

    Raises
    ------
    DataError
        If there is none.
    """
    if variable.name in other.variables:
        return other.variables[variable.name]
    standard_name = variable.attributes.get("standard_name")
    same = [
        v
        for v in other.fields
        if standard_name and v.attributes.get("standard_name") == standard_name
    ]
    if len(same) != 1:
        names = [v.name for v in other.fields]
        raise DataError(
            f"{other.label} has no variable '{variable.name}'. "
            f"{nearest_names(variable.name, names)}"
        )
    return same[0]


def need_same_cells(
    dataset: Dataset, variable: Variable, other: Dataset, its: Variable, without: Role
) -> None:
    """Refuse two variables whose cells differ along anything but one axis, or come in another
    order.

    Parameters
    ----------
    dataset : Dataset
    variable : Variable
    other : Dataset
    its : Variable
        The variable of the other dataset.
    without : Role
        Role of an axis that may differ.

    Raises
    ------
    DataError
        Which says where they differ and what makes them alike.
    """
    along = [_dimensions(one, v, without) for one, v in ((dataset, variable), (other, its))]
    sizes = [
        [one.lengths[d] for d in dimensions]
        for one, dimensions in zip((dataset, other), along, strict=True)
    ]
    if sizes[0] != sizes[1]:
        raise DataError(
            f"{variable.name} has {_times(sizes[0])} cells in {dataset.label} and "
            f"{_times(sizes[1])} in {other.label}; bring both to the same region and grid first, "
            "with subset and regrid --like FILE"
        )
    for role in (*_HORIZONTAL, Role.LEVEL):
        first, second = dataset.coordinate(role), other.coordinate(role)
        if first is None or second is None or first.dimension not in along[0]:
            continue
        places = [
            along[0].index(str(first.dimension)),
            along[1].index(str(second.dimension)) if second.dimension in along[1] else -1,
        ]
        apart = np.abs(first.values - second.values)
        if role is Role.LONGITUDE:
            apart = np.minimum(apart % 360, -apart % 360)
        if places[0] != places[1] or apart.max() > max(
            first.slack, second.slack, 1e-3 * float(np.ptp(first.values))
        ):
            raise DataError(
                f"{variable.name} lies on other {role}s in {dataset.label} than in {other.label} "
                f"(the first is {first.values[0]:g} and {second.values[0]:g}); bring both to the "
                "same grid first, with regrid --like FILE"
            )


def _dimensions(dataset: Dataset, variable: Variable, without: Role) -> list[str]:
    coordinate = dataset.coordinate(without)
    return [d for d in variable.dimensions if coordinate is None or d != coordinate.dimension]


def _times(sizes: list[int]) -> str:
    return " x ".join(map(str, sizes)) or "single"
