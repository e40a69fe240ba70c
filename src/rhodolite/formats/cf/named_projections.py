"""Projections that are named by a code or a text of other programs, in the words of CF (5.6 and
appendix F)."""

from __future__ import annotations

import importlib.util
from typing import Any

from rhodolite.errors import DataError, warn
from rhodolite.model.cf.named_variables import mapping_of
from rhodolite.model.dataset import Dataset
from rhodolite.model.units.udunits import convertible
from rhodolite.model.variable import Variable

_TEXTS = (
    "crs_wkt",
    "spatial_ref",
    "proj4",
    "proj4text",
    "proj4_params",
    "proj4_string",
)
_CODES = ("epsg_code", "EPSG_code", "epsg", "EPSG", "code")
_DIRECTIONS = {
    "x": ("x", "xc", "easting", "eastings", "projection_x_coordinate"),
    "y": ("y", "yc", "northing", "northings", "projection_y_coordinate"),
}


def describe_projections(dataset: Dataset) -> Dataset:
    """Return a dataset whose grid mappings have the attributes of CF, where a text or a code tells
    them, and whose axes in a plane are marked as such.

    Raises
    ------
    DataError
        If a text or a code names no projection.
    """
    names = {
        mapping_of(v) for v in dataset.variables.values()
    } & dataset.variables.keys()
    lacking = [
        dataset.variables[name]
        for name in sorted(names)
        if "grid_mapping_name" not in dataset.variables[name].attributes
    ]
    described = {v.name: _described(v, dataset.label) for v in lacking}
    if described:
        dataset = dataset.with_variables(
            described.get(name, v) for name, v in dataset.variables.items()
        )
    return _with_marked_axes(dataset)


def _described(mapping: Variable, label: str) -> Variable:
    description = _description(mapping)
    if not description:
        return mapping
    if importlib.util.find_spec("pyproj") is None:
        warn(
            f"{label}: {mapping.name} tells its projection by a text or a code; to understand it "
            "install pyproj: pip install 'rhodolite[projections]'"
        )
        return mapping
    import pyproj

    try:
        system = pyproj.CRS.from_user_input(description)
    except pyproj.exceptions.CRSError as error:
        raise DataError(
            f"{label}: {mapping.name} tells its projection by '{description[:60]}', which is not "
            f"understood: {error}"
        ) from None
    words: dict[str, Any] = {k: v for k, v in system.to_cf().items() if v != "unknown"}
    return mapping.edit(**words)


def _description(mapping: Variable) -> str:
    """Return the text, or the code, by which a grid mapping tells its projection; empty where there
    is none."""
    given = {key: str(mapping.attributes.get(key, "")) for key in (*_TEXTS, *_CODES)}
    text = next((given[key] for key in _TEXTS if given[key]), "")
    code = next((given[key] for key in _CODES if given[key]), "")
    if text or not code:
        return text
    return f"EPSG:{code.upper().removeprefix('EPSG:').strip()}"


def _with_marked_axes(dataset: Dataset) -> Dataset:
    """Return a dataset whose x and y, in lengths, along data with a projection are those of its
    plane."""
    changed: dict[str, Variable] = {}
    for variable in dataset.variables.values():
        mapping = dataset.variables.get(mapping_of(variable))
        kind = (
            "" if mapping is None else mapping.attributes.get("grid_mapping_name", "")
        )
        if mapping is None or kind == "latitude_longitude":
            continue
        for name in variable.dimensions:
            axis = dataset.variables.get(name)
            if axis is not None and (marked := _marked(axis)) is not axis:
                changed[name] = marked
    if not changed:
        return dataset
    return dataset.with_variables(
        changed.get(name, v) for name, v in dataset.variables.items()
    )


def _marked(axis: Variable) -> Variable:
    about = axis.attributes
    is_plain = axis.dimensions == (axis.name,) and "standard_name" not in about
    if not is_plain or not convertible(axis.units or "m", "m"):
        return axis
    letter = str(about.get("axis", "")).strip().lower()
    for word, names in _DIRECTIONS.items():
        if letter == word or (not letter and axis.name.lower() in names):
            quantity = f"projection_{word}_coordinate"
            return axis.edit(standard_name=quantity, units=axis.units or "m")
    return axis
