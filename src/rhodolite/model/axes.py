"""The coordinates of a dataset, and what a variable measures if it is one: by CF metadata first, by
names last."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from functools import cached_property

import numpy as np

from rhodolite.arrays import Array, Engine, read_small
from rhodolite.model.space.precision import slack
from rhodolite.model.time.time_units import counts_from_a_date
from rhodolite.model.units.udunits import convertible, is_pressure
from rhodolite.model.variable import Variable


class Role(StrEnum):
    """What a coordinate measures."""

    LATITUDE = "latitude"
    LONGITUDE = "longitude"
    TIME = "time"
    LEVEL = "level"


def is_in_order(values: Array) -> bool:
    """Return whether values increase or decrease throughout, as coordinates have to (CF 5)."""
    steps = np.diff(values)
    return bool((steps > 0).all() or (steps < 0).all())


_LATITUDE_UNITS = {
    "degrees_north",
    "degree_north",
    "degree_n",
    "degrees_n",
    "degreen",
    "degreesn",
}
_LONGITUDE_UNITS = {
    "degrees_east",
    "degree_east",
    "degree_e",
    "degrees_e",
    "degreee",
    "degreese",
}
_AXIS_LETTERS = {
    "Y": Role.LATITUDE,
    "X": Role.LONGITUDE,
    "T": Role.TIME,
    "Z": Role.LEVEL,
}
_LEVEL_STANDARD_NAMES = {
    "air_pressure",
    "height",
    "altitude",
    "depth",
    "model_level_number",
    "geopotential_height",
    "atmosphere_sigma_coordinate",
    "atmosphere_hybrid_sigma_pressure_coordinate",
    "atmosphere_hybrid_height_coordinate",
    "ocean_sigma_coordinate",
    "ocean_s_coordinate",
    "height_above_mean_sea_level",
    "height_above_geopotential_datum",
}
_NAMES = {
    Role.LATITUDE: {"lat", "latitude", "lats", "latitudes", "nav_lat"},
    Role.LONGITUDE: {"lon", "longitude", "lons", "longitudes", "long", "nav_lon"},
    Role.LEVEL: {
        "lev",
        "level",
        "levels",
        "plev",
        "height",
        "depth",
        "pressure",
        "altitude",
        "z",
    },
}
_HEIGHTS = re.compile(r"(depth|height|altitude).")


@dataclass(frozen=True, eq=False)
class Coordinate:
    """A coordinate variable with the role it plays.

    Attributes
    ----------
    role : Role
    variable : Variable
    bounds_variable : Variable or None
        The bounds of its cells, of shape (..., 2).
    """

    role: Role
    variable: Variable
    bounds_variable: Variable | None = None

    @property
    def name(self) -> str:
        return self.variable.name

    @property
    def dimension(self) -> str | None:
        """The dimension it runs along; None for a scalar."""
        return self.variable.dimensions[0] if self.variable.dimensions else None

    @cached_property
    def values(self) -> Array:
        """Values as a one-dimensional array of float64, in the coordinate's own units."""
        return read_small(self.variable.floats()).astype(np.float64).reshape(-1)

    @cached_property
    def slack(self) -> float:
        """By how much a value may miss what was typed and still be meant, in the coordinate's own
        units."""
        return slack(self.values, self.variable.data.dtype)

    @cached_property
    def bounds(self) -> Array | None:
        """Bounds of the cells, shape (n, 2), float64; None where the file gives none."""
        if self.bounds_variable is None:
            return None
        return (
            Engine(workers=1)
            .compute(self.bounds_variable.floats())
            .astype(np.float64)
            .reshape(-1, 2)
        )


@dataclass(frozen=True, eq=False)
class Axes:
    """The coordinates of a dataset by role.

    Attributes
    ----------
    by_role : mapping of Role to Coordinate
        One-dimensional or scalar coordinates.
    curvilinear : tuple of str or None
        Names of two-dimensional latitude and longitude.
    sites : tuple of str or None
        Names of latitude and longitude along one and the same dimension, as sites have them.
    auxiliary : frozenset of str
        Variables that describe others: coordinates, bounds, labels, grid mappings.
    doubts : tuple of str
        What was assumed where the metadata leave a choice, in words.
    """

    by_role: Mapping[Role, Coordinate]
    curvilinear: tuple[str, str] | None
    auxiliary: frozenset[str]
    sites: tuple[str, str] | None = None
    doubts: tuple[str, ...] = ()


def find_role(variable: Variable) -> Role | None:
    """Return what a variable measures if it is a coordinate of space or time (CF chapter 4)."""
    units = str(variable.attributes.get("units", "")).strip()
    role = _role_by_standard(variable, units)
    if role is not None:
        return role
    letter = str(variable.attributes.get("axis", "")).strip().upper()
    if letter in _AXIS_LETTERS and not _is_of_map(variable, letter):
        # Lengths and plain numbers are no degrees.
        return (
            None
            if letter in "XY" and units in ("m", "km", "1")
            else _AXIS_LETTERS[letter]
        )
    numeric = variable.data.dtype.kind in "fiu"
    if numeric and units not in ("", "1", "degrees", "degree") and is_pressure(units):
        return Role.LEVEL
    return _role_by_name(variable, units)


def _role_by_name(variable: Variable, units: str) -> Role | None:
    name = variable.name.lower()
    if variable.dimensions == (variable.name,) and _HEIGHTS.match(name):
        # Such as depth_below_sea or deptht.
        return Role.LEVEL if convertible(units or "1", "m") else None
    return next((role for role, names in _NAMES.items() if name in names), None)


def _role_by_standard(variable: Variable, units: str) -> Role | None:
    """Return the role that standard name, units or direction give."""
    standard_name = _standard_name(variable)
    if standard_name in (Role.LATITUDE, Role.LONGITUDE, Role.TIME):
        return Role(standard_name)
    if is_latitude_unit(units):
        return Role.LATITUDE
    if is_longitude_unit(units):
        return Role.LONGITUDE
    if counts_from_a_date(units):
        return Role.TIME
    if standard_name in _LEVEL_STANDARD_NAMES or "positive" in variable.attributes:
        return Role.LEVEL
    return None


def _is_of_map(variable: Variable, letter: str) -> bool:
    """Return whether X or Y marks an axis of a projected or rotated grid, which is no longitude or
    latitude."""
    return letter in "XY" and _standard_name(variable).startswith(
        ("projection_", "grid_")
    )


def _standard_name(variable: Variable) -> str:
    return str(variable.attributes.get("standard_name", "")).strip().lower()


def is_latitude_unit(units: str | None) -> bool:
    """Return whether units are those by which CF 4.1 tells a latitude."""
    return (units or "").strip().lower() in _LATITUDE_UNITS


def is_longitude_unit(units: str | None) -> bool:
    """Return whether units are those by which CF 4.2 tells a longitude."""
    return (units or "").strip().lower() in _LONGITUDE_UNITS


def is_certain_position(variable: Variable) -> bool:
    """Return whether standard name or units, and not only its name, make a variable a latitude or
    longitude."""
    by_units = is_latitude_unit(variable.units) or is_longitude_unit(variable.units)
    return by_units or _standard_name(variable) in (Role.LATITUDE, Role.LONGITUDE)
