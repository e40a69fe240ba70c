"""Axes that a figure does not show: averaged, or to be chosen from."""

from __future__ import annotations

from rhodolite.errors import DataError
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.operations.axis_reduction.plan import Over
from rhodolite.operations.summarise import Summarise

_OVER = {Role.LATITUDE: Over.LATITUDE, Role.LONGITUDE: Over.LONGITUDE, Role.TIME: Over.TIME}


def average_all_but(dataset: Dataset, name: str, keep: tuple[Role, ...]) -> tuple[Dataset, str]:
    """Return a dataset whose variable runs along some axes alone, averaged over all others but
    levels.

    Parameters
    ----------
    dataset : Dataset
    name : str
    keep : tuple of Role
        Axes that stay.

    Returns
    -------
    dataset : Dataset
    words : str
        What it is averaged over, for a caption.

    Raises
    ------
    DataError
        If an axis is missing, or there are several levels that no one asked for.
    """
    if dataset.axes.curvilinear:
        if {Role.LATITUDE, Role.LONGITUDE} & set(keep):
            raise DataError(
                f"{dataset.label}: latitude and longitude have two dimensions; summarise "
                "--latitude-bands 2 before it makes bands of latitude, regrid a regular grid"
            )
        dataset = Summarise(over=Over.AREA)(dataset)
        words = ["mean over the area"]
    else:
        words = []
    found = {
        role: c
        for role in Role
        if (c := dataset.coordinate(role)) is not None and c.dimension is not None
    }
    lacking = [
        role
        for role in keep
        if role not in found or found[role].dimension not in dataset[name].dimensions
    ]
    if lacking:
        raise DataError(
            f"{name} has no {' and no '.join(lacking)} axis; its dimensions are "
            f"{', '.join(dataset[name].dimensions)}"
        )
    both = {Role.LATITUDE, Role.LONGITUDE}
    if not both & set(keep) and all(
        role in found and found[role].dimension in dataset[name].dimensions for role in both
    ):
        dataset = Summarise(over=Over.AREA)(dataset)
        words.append("mean over the area")
    for role, over in _OVER.items():
        coordinate = dataset.coordinate(role)
        if (
            role in keep
            or coordinate is None
            or coordinate.dimension not in dataset[name].dimensions
        ):
            continue
        if coordinate.values.size > 1:
            words.append(
                {Role.LATITUDE: "mean over latitude", Role.LONGITUDE: "zonal mean"}.get(role, "")
            )
        dataset = Summarise(over=over)(dataset)
    vertical = dataset.coordinate(Role.LEVEL)
    left = (
        vertical is not None
        and vertical.dimension in dataset[name].dimensions
        and vertical.values.size > 1
    )
    if Role.LEVEL not in keep and vertical is not None and left:
        levels = ", ".join(f"{value:g}" for value in vertical.values)
        units = vertical.variable.units or ""
        raise DataError(
            f"{name} has {vertical.values.size} levels ({levels} {units}); choose one, such as "
            f"--level {vertical.values[0]:g}{units}"
        )
    return dataset, " · ".join(word for word in words if word)
