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
_ACROSS = ("x", "xc", "easting", "eastings", "projection_x_coordinate")
_ALONG = ("y", "yc", "northing", "northings", "projection_y_coordinate")


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
    about = mapping.attributes
    told = next((str(about[key]) for key in _TEXTS if str(about.get(key, ""))), "")
    code = next((str(about[key]) for key in _CODES if str(about.get(key, ""))), "")
    if not told and code:
        told = f"EPSG:{code.upper().removeprefix('EPSG:').strip()}"
    if not told:
        return mapping
    if importlib.util.find_spec("pyproj") is None:
        warn(
            f"{label}: {mapping.name} tells its projection by a text or a code; to understand it "
            "install pyproj: pip install 'rhodolite[projections]'"
        )
        return mapping
    import pyproj

    try:
        system = pyproj.CRS.from_user_input(told)
    except pyproj.exceptions.CRSError as error:
        raise DataError(
            f"{label}: {mapping.name} tells its projection by '{told[:60]}', which is not "
            f"understood: {error}"
        ) from None
    words: dict[str, Any] = {k: v for k, v in system.to_cf().items() if v != "unknown"}
    return mapping.edit(**words)


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
    about, name = axis.attributes, axis.name.lower()
    is_plain = axis.dimensions == (axis.name,) and "standard_name" not in about
    if not is_plain or not convertible(axis.units or "m", "m"):
        return axis
    letter = str(about.get("axis", "")).strip().upper()
    if letter == "X" or (not letter and name in _ACROSS):
        return axis.edit(
            standard_name="projection_x_coordinate", units=axis.units or "m"
        )
    if letter == "Y" or (not letter and name in _ALONG):
        return axis.edit(
            standard_name="projection_y_coordinate", units=axis.units or "m"
        )
    return axis
