"""What every output says of its axes: names, units and letters, and nothing that is not there."""

from __future__ import annotations

from typing import Any

from rhodolite.model.axes import Role
from rhodolite.model.cf.vocabulary import ABOUT_POSITIONS, REFERENCES
from rhodolite.model.dataset import Dataset
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
    added: dict[str, dict[str, str]] = {}
    for role, coordinate in dataset.axes.by_role.items():
        about = dict(_ABOUT[role])
        if role is Role.LEVEL:
            about |= _about_levels(coordinate.variable)
        if role is Role.TIME and str(
            coordinate.variable.attributes.get("calendar", "standard")
        ) in (_REAL_CALENDARS):
            about["units_metadata"] = "leap_seconds: unknown"
        if coordinate.dimension is None:
            about.pop("axis", None)
        added[coordinate.name] = about
    for names in (dataset.axes.curvilinear, dataset.axes.sites):
        for name, role in zip(
            names or (), (Role.LATITUDE, Role.LONGITUDE), strict=False
        ):
            added[name] = {
                key: value for key, value in _ABOUT[role].items() if key != "axis"
            }

    def described(variable: Variable) -> Variable:
        about = added.get(variable.name, {})
        lacking = {
            key: value
            for key, value in about.items()
            if not str(variable.attributes.get(key, "")).strip()
        }
        return variable.edit(**lacking) if lacking else variable

    return dataset.with_variables(described(v) for v in dataset.variables.values())


def _about_levels(variable: Variable) -> dict[str, str]:
    if "standard_name" in variable.attributes:
        return {
            "long_name": str(variable.attributes["standard_name"]).replace("_", " ")
        }
    units = variable.units or "1"
    if is_pressure(units):
        return {"standard_name": "air_pressure", "long_name": "pressure"}
    if convertible(units, "m"):
        named = f"{variable.name} {variable.attributes.get('long_name', '')}".lower()
        down = (
            "depth" in named
            or str(variable.attributes.get("positive", "")).lower() == "down"
        )
        word = "depth" if down else "height"
        return {"standard_name": word, "long_name": word}
    return {"long_name": "level"}


def without_dangling_names(dataset: Dataset) -> Dataset:
    """Return a dataset none of whose variables refers to another that is not there."""
    names = set(dataset.variables)

    def pointing(variable: Variable) -> Variable:
        changes: dict[str, Any] = {}
        for key in REFERENCES:
            words = str(variable.attributes.get(key, "")).split()
            remaining = [word for word in words if word in names or word.endswith(":")]
            if len(remaining) < len(words) and not (
                key == "grid_mapping" and any(w.endswith(":") for w in words)
            ):
                changes[key] = " ".join(remaining)
        gone = [key for key, text in changes.items() if not text]
        return (
            variable.edit(*gone, **{key: text for key, text in changes.items() if text})
            if changes
            else variable
        )

    return dataset.with_variables(pointing(v) for v in dataset.variables.values())
