"""Swaths of HDF-EOS5: the positions of their pixels stand in a group of their own."""

from __future__ import annotations

from typing import Any

from rhodolite.errors import warn
from rhodolite.formats.netcdf.eos_text import (
    dimensions_of,
    group_at,
    name_field,
    only_child,
    parts_of,
    settings_of,
)
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable

_SWATHS, _FIELDS, _POSITIONS = "/HDFEOS/SWATHS/", "/Data Fields", "/Geolocation Fields"
_DEGREES = {
    "Latitude": {"standard_name": "latitude", "units": "degrees_north"},
    "Longitude": {"standard_name": "longitude", "units": "degrees_east"},
}


def only_swath(file: Any) -> str | None:
    """Return the group of the fields of the one swath of an open file; None where there is none, or
    there are several."""
    name = only_child(file, _SWATHS)
    return None if name is None else f"{_SWATHS}{name}{_FIELDS}"


def positions_of(file: Any, group: str) -> Any:
    """Return the group with the positions of the fields of a swath; None for other groups."""
    if not (group.startswith(_SWATHS) and group.endswith(_FIELDS)):
        return None
    return group_at(file, group.removesuffix(_FIELDS) + _POSITIONS)


def place_on_swath(
    dataset: Dataset, file: Any, group: str, positions: Dataset
) -> Dataset:
    """Return the fields of a swath with the latitudes and longitudes of its pixels.

    Parameters
    ----------
    dataset : Dataset
        As read from the group.
    file : netCDF4.Dataset
    group : str
        Path of the group.
    positions : Dataset
        As read from the group with its positions.
    """
    name = group.removeprefix(_SWATHS).removesuffix(_FIELDS)
    texts = parts_of(file, "SwathStructure", "SWATH")
    text = next(
        (t for t in texts if settings_of(t).get("SwathName", "").strip('"') == name), ""
    )
    of_positions = dimensions_of(text, "GeoField")
    placed = [
        name_field(variable, of_positions).edit(**_DEGREES.get(variable.name, {}))
        for variable in positions.variables.values()
    ]
    of_fields = dimensions_of(text, "DataField")
    fields = [name_field(v, of_fields) for v in dataset.variables.values()]
    grid = {v.dimensions for v in placed if v.name in _DEGREES}
    if len(grid) != 1:
        return dataset.with_variables([*placed, *fields])
    (pixels,) = grid
    beside = [v.name for v in fields if not set(pixels) <= set(v.dimensions)]
    if beside:
        warn(
            f"{dataset.label}: positions of the swath {name} lie along {', '.join(pixels)}, and "
            f"{', '.join(beside)} along other dimensions"
        )
    return dataset.with_variables(
        [*placed, *(_located(variable, pixels) for variable in fields)]
    )


def _located(variable: Variable, pixels: tuple[str, ...]) -> Variable:
    """Return a field that names the positions of its pixels."""
    if not set(pixels) <= set(variable.dimensions):
        return variable
    return variable.edit(coordinates=" ".join(_DEGREES))
