"""What every output says of its axes: names, units and letters, and nothing that is not there."""

from __future__ import annotations

from collections.abc import Mapping

from rhodolite.model.axes import Coordinate, Role
from rhodolite.model.cf.named_variables import keep_named
from rhodolite.model.cf.vocabulary import ABOUT_POSITIONS
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.level_direction import grows_down, usual_direction
from rhodolite.model.units.udunits import convertible, is_pressure
from rhodolite.model.variable import Variable

_ABOUT: dict[Role, dict[str, str]] = {
    Role.LATITUDE: {**ABOUT_POSITIONS["lat"], "axis": "Y"},
    Role.LONGITUDE: {**ABOUT_POSITIONS["lon"], "axis": "X"},
    Role.TIME: {"standard_name": "time", "long_name": "time", "axis": "T"},
    Role.LEVEL: {"axis": "Z"},
}


_REAL_CALENDARS = ("standard", "gregorian", "proleptic_gregorian", "julian")
"""Of which CF 1.11, 4.4.1, asks whether leap seconds are counted, which files hardly ever say."""


def describe_axes(dataset: Dataset) -> Dataset:
    """Return a dataset whose coordinates, as they were recognised, say what they are (CF 4)."""
    added = {
        coordinate.name: _about(role, coordinate)
        for role, coordinate in dataset.axes.by_role.items()
    }
    horizontal = (Role.LATITUDE, Role.LONGITUDE)
    for names in (dataset.axes.curvilinear, dataset.axes.sites):
        for name, role in zip(names or (), horizontal, strict=False):
            # Positions are no axes: they run along other dimensions.
            added[name] = {k: v for k, v in _ABOUT[role].items() if k != "axis"}
    return dataset.with_variables(
        _fill_in(variable, added.get(variable.name, {}))
        for variable in dataset.variables.values()
    )


def _about(role: Role, coordinate: Coordinate) -> dict[str, str]:
    about = dict(_ABOUT[role])
    variable = coordinate.variable
    if role is Role.LEVEL:
        about |= _about_levels(coordinate)
    if role is Role.TIME:
        calendar = str(variable.attributes.get("calendar", "standard"))
        if calendar in _REAL_CALENDARS:
            about["units_metadata"] = "leap_seconds: unknown"
    if coordinate.dimension is None:
        about.pop("axis", None)
    return about


def _fill_in(variable: Variable, about: Mapping[str, str]) -> Variable:
    """Return a variable with those attributes that it lacks."""
    lacking = {
        key: value
        for key, value in about.items()
        if not str(variable.attributes.get(key, "")).strip()
    }
    return variable.edit(**lacking) if lacking else variable


def _about_levels(coordinate: Coordinate) -> dict[str, str]:
    variable = coordinate.variable
    about = {"long_name": "level"}
    units = variable.units or "1"
    if is_pressure(units):
        about = {"standard_name": "air_pressure", "long_name": "pressure"}
    elif convertible(units, "m"):
        down = grows_down(coordinate)
        word = "depth" if down else "height"
        about = {"standard_name": word, "long_name": word}
        direction = "down" if down else "up"
        is_named = "standard_name" in variable.attributes
        # Depths below zero contradict their name, which is not made worse.
        if not is_named or usual_direction(variable) in (None, direction):
            about["positive"] = direction
    if "standard_name" in variable.attributes:
        named = str(variable.attributes["standard_name"])
        about["long_name"] = named.replace("_", " ")
    return about


def without_dangling_names(dataset: Dataset) -> Dataset:
    """Return a dataset none of whose variables refers to another that is not there."""
    names = dataset.variables.keys()
    return dataset.with_variables(
        keep_named(variable, names) for variable in dataset.variables.values()
    )
