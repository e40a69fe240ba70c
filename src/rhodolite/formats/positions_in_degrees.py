"""Latitudes and longitudes that files count otherwise than in degrees, such as in radians."""

from __future__ import annotations

import re
from functools import partial

import numpy as np

from rhodolite.arrays import Array, Mapped
from rhodolite.model.axes import Role, find_role
from rhodolite.model.cf.vocabulary import CELL_BOUNDS
from rhodolite.model.dataset import Dataset
from rhodolite.model.units.udunits import convert, convertible
from rhodolite.model.variable import Storage, Variable

_UNITS = {
    Role.LATITUDE: "degrees_north",
    Role.LONGITUDE: "degrees_east",
    "grid_latitude": "degrees",
    "grid_longitude": "degrees",
}
"""Of positions on the globe, and on one with a rotated pole."""
_OTHER_ANGLES = re.compile(
    r"(?:m|milli)?rad(?:ian)?s?|arc[ _]?(?:min|minute|sec|second)s?", re.IGNORECASE
)
"""Which the units library can tell from plain numbers by their names alone: a radian is 1."""


def count_degrees(dataset: Dataset) -> Dataset:
    """Return a dataset whose positions, and the limits of its cells, are in degrees."""
    changed: dict[str, Variable] = {}
    for variable in dataset.variables.values():
        quantity = str(variable.attributes.get("standard_name", ""))
        units = _UNITS.get(quantity, _UNITS.get(find_role(variable) or ""))
        if units is None:
            continue
        size = _degrees_in(variable.units)
        if size != 1.0:
            changed[variable.name] = _rescaled(variable, size).edit(units=units)
        for key in CELL_BOUNDS:
            limits = dataset.variables.get(str(variable.attributes.get(key, "")))
            if limits is None:
                continue
            # Limits have the units of their coordinate, but where they say others (CF 7.1).
            own = _degrees_in(limits.units) if limits.units else size
            if own != 1.0:
                changed[limits.name] = _rescaled(limits, own).edit("units")
    if not changed:
        return dataset
    return dataset.with_variables(
        changed.get(name, variable) for name, variable in dataset.variables.items()
    )


def _degrees_in(units: str | None) -> float:
    """Return how many degrees a unit of angles is; one where it is none, or degrees."""
    plain = (units or "").strip().lower()
    if not _OTHER_ANGLES.fullmatch(plain) or not convertible(plain, "degree"):
        return 1.0
    return float(convert(1.0, plain, "degree"))


def _rescaled(variable: Variable, size: float) -> Variable:
    array = Mapped(variable.floats(), partial(_in_degrees, size), np.float64)
    return variable.replace(data=array, missing=None, storage=Storage())


def _in_degrees(size: float, block: Array) -> Array:
    return np.multiply(block, size, dtype=np.float64)
