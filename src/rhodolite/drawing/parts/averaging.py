"""Axes that a figure does not show: averaged, or to be chosen from."""

from __future__ import annotations

from rhodolite.drawing.parts.selection import need_one_level
from rhodolite.errors import DataError
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.operations.axis_reduction.plan import Over
from rhodolite.operations.summarise import Summarise

_OVER = {
    Role.LATITUDE: Over.LATITUDE,
    Role.LONGITUDE: Over.LONGITUDE,
    Role.TIME: Over.TIME,
}
_HORIZONTAL = {Role.LATITUDE, Role.LONGITUDE}
_WORDS = {Role.LATITUDE: "mean over latitude", Role.LONGITUDE: "zonal mean"}


def average_all_but(
    dataset: Dataset, name: str, keep: tuple[Role, ...]
) -> tuple[Dataset, str]:
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
    _need_axes(dataset, name, keep)
    words = []
    if _has_an_area(dataset, name) and not _HORIZONTAL & set(keep):
        # Over both at once, so that cells count by their areas.
        dataset = Summarise(over=Over.AREA)(dataset)
        words.append("mean over the area")
    for role, over in _OVER.items():
        if role in keep or not _runs_along(dataset, name, role):
            continue
        if dataset.need(role).values.size > 1:
            words.append(_WORDS.get(role, ""))
        dataset = Summarise(over=over)(dataset)
    if Role.LEVEL not in keep:
        need_one_level(dataset, name)
    return dataset, " · ".join(word for word in words if word)


def _has_an_area(dataset: Dataset, name: str) -> bool:
    if dataset.axes.curvilinear:
        return True
    return all(_runs_along(dataset, name, role) for role in _HORIZONTAL)


def _need_axes(dataset: Dataset, name: str, keep: tuple[Role, ...]) -> None:
    if dataset.axes.curvilinear and _HORIZONTAL & set(keep):
        raise DataError(
            f"{dataset.label}: latitude and longitude have two dimensions; summarise "
            "--latitude-bands 2 before it makes bands of latitude, regrid a regular grid"
        )
    lacking = [role for role in keep if not _runs_along(dataset, name, role)]
    if lacking:
        raise DataError(
            f"{name} has no {' and no '.join(lacking)} axis; its dimensions are "
            f"{', '.join(dataset[name].dimensions)}"
        )


def _runs_along(dataset: Dataset, name: str, role: Role) -> bool:
    """Return whether a variable has the axis of a role."""
    coordinate = dataset.coordinate(role)
    return (
        coordinate is not None
        and coordinate.dimension is not None
        and coordinate.dimension in dataset[name].dimensions
    )
