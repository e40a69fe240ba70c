"""Which variables are coordinates, and of what: found from CF metadata first, from names last."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from functools import cached_property

import numpy as np

from rhodolite.arrays import Array, Engine, read_small
from rhodolite.model.cf.cell_bounds import why_no_bounds
from rhodolite.model.space.precision import slack
from rhodolite.model.units.udunits import is_pressure
from rhodolite.model.variable import Variable


class Role(StrEnum):
    """What a coordinate measures."""

    LATITUDE = "latitude"
    LONGITUDE = "longitude"
    TIME = "time"
    LEVEL = "level"


_LATITUDE_UNITS = {"degrees_north", "degree_north", "degree_n", "degrees_n", "degreen", "degreesn"}
_LONGITUDE_UNITS = {"degrees_east", "degree_east", "degree_e", "degrees_e", "degreee", "degreese"}
_AXIS_LETTERS = {"Y": Role.LATITUDE, "X": Role.LONGITUDE, "T": Role.TIME, "Z": Role.LEVEL}
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
    Role.TIME: {"time", "t", "date"},
    Role.LEVEL: {"lev", "level", "levels", "plev", "height", "depth", "pressure", "altitude", "z"},
}


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
    """Return what a variable measures if it is a coordinate of space or time (CF chapter 4).

    Parameters
    ----------
    variable : Variable
    """
    attributes = variable.attributes
    standard_name = str(attributes.get("standard_name", "")).strip().lower()
    units = str(attributes.get("units", "")).strip()
    if standard_name in (Role.LATITUDE, Role.LONGITUDE, Role.TIME):
        return Role(standard_name)
    if is_latitude_unit(units):
        return Role.LATITUDE
    if is_longitude_unit(units):
        return Role.LONGITUDE
    if " since " in units:
        return Role.TIME
    if standard_name in _LEVEL_STANDARD_NAMES or "positive" in attributes:
        return Role.LEVEL
    letter = str(attributes.get("axis", "")).strip().upper()
    # X and Y also mark the axes of projected and rotated grids, which are not longitude and
    # latitude.
    if letter in _AXIS_LETTERS and (
        letter in "TZ" or not standard_name.startswith(("projection_", "grid_"))
    ):
        return None if letter in "XY" and units in ("m", "km", "1") else _AXIS_LETTERS[letter]
    if (
        variable.data.dtype.kind in "fiu"
        and units not in ("", "1", "degrees", "degree")
        and is_pressure(units)
    ):
        return Role.LEVEL
    for role, names in _NAMES.items():
        if variable.name.lower() in names and (role != Role.TIME or " since " in units):
            return role
    return None


def formula_terms(variable: Variable) -> list[str]:
    """Return the names of the variables from which a model's levels are computed (CF 4.3.3).

    Parameters
    ----------
    variable : Variable
    """
    return str(variable.attributes.get("formula_terms", "")).split()[1::2]


def find_axes(variables: Mapping[str, Variable]) -> Axes:
    """Sort a dataset's variables into coordinates by role, their helpers, and the data.

    Parameters
    ----------
    variables : mapping of str to Variable
    """
    auxiliary: set[str] = set()
    for variable in variables.values():
        for key in ("bounds", "climatology", "grid_mapping"):
            if (named := str(variable.attributes.get(key, ""))) in variables:
                auxiliary.add(named)
        listed = [
            word
            for key in ("coordinates", "cell_measures")
            for word in str(variable.attributes.get(key, "")).split()
        ]
        auxiliary.update(name for name in listed if name in variables)
        auxiliary.update(
            name
            for name in formula_terms(variable)
            if name in variables and variables[name].data.ndim <= 1
        )
    candidates: dict[Role, list[Variable]] = {role: [] for role in Role}
    grids: dict[Role, str] = {}
    for name, variable in variables.items():
        is_coordinate = variable.dimensions == (name,)
        if is_coordinate:
            auxiliary.add(name)
        along_another = _describes_plain_dimension(variable, variables)
        role = (
            find_role(variable)
            if is_coordinate or along_another or variable.data.ndim in (0, 2)
            else None
        )
        if role is None:
            continue
        if (
            is_coordinate
            or along_another
            or (variable.data.ndim == 0 and variable.data.dtype.kind in "fiu")
        ):
            candidates[role].append(variable)
            auxiliary.add(name)
        elif role in (Role.LATITUDE, Role.LONGITUDE) and name not in _bounds_names(variables):
            grids.setdefault(role, name)
            auxiliary.add(name)
    if (
        len(grids) == 2
    ):  # then what only its name or letter makes a latitude is an axis of the rotated grid
        for role in grids:
            candidates[role] = [v for v in candidates[role] if _is_certain(v)]
    usage = [v.dimensions for n, v in variables.items() if n not in auxiliary]
    by_role, doubts = {}, []
    for role, found in candidates.items():
        if found:
            # Where several could serve, the one that most data run along does.
            used = {v.name: sum(v.name in dims for dims in usage) for v in found}
            best = max(found, key=lambda v, used=used: (used[v.name], v.data.ndim))  # type: ignore[misc]
            rivals = [name for name in used if name != best.name and variables[name].data.ndim]
            if rivals and best.data.ndim:
                doubts.append(
                    f"{', '.join([best.name, *rivals])} could each be the {role}; {best.name} is "
                    "taken"
                )
            by_role[role] = Coordinate(role, best, _bounds_of(best, variables))
    both = len(grids) == 2 and not {Role.LATITUDE, Role.LONGITUDE} & set(by_role)
    curvilinear = (grids[Role.LATITUDE], grids[Role.LONGITUDE]) if both else None
    sites = (
        None
        if {Role.LATITUDE, Role.LONGITUDE} <= by_role.keys() or curvilinear
        else _sites(variables)
    )
    return Axes(by_role, curvilinear, frozenset(auxiliary.union(sites or ())), sites, tuple(doubts))


def _bounds_of(variable: Variable, variables: Mapping[str, Variable]) -> Variable | None:
    """Return the bounds that a coordinate names, where they can be that."""
    named = variable.attributes.get("bounds") or variable.attributes.get("climatology") or ""
    bounds = variables.get(str(named))
    fits = bounds is not None and why_no_bounds(variable, bounds) is None
    return bounds if fits else None


def _sites(variables: Mapping[str, Variable]) -> tuple[str, str] | None:
    """Return the names of latitude and longitude that run along the same dimension."""
    found: dict[tuple[str, ...], dict[Role, str]] = {}
    for name, variable in variables.items():
        if variable.data.ndim == 1 and variable.data.dtype.kind in "fiu":
            role = find_role(variable)
            if role in (Role.LATITUDE, Role.LONGITUDE):
                found.setdefault(variable.dimensions, {})[role] = name
    both = [pair for pair in found.values() if len(pair) == 2]
    return (both[0][Role.LATITUDE], both[0][Role.LONGITUDE]) if both else None


def is_latitude_unit(units: str | None) -> bool:
    """Return whether units are those by which CF 4.1 tells a latitude.

    Parameters
    ----------
    units : str, optional
        UDUNITS units.
    """
    return (units or "").strip().lower() in _LATITUDE_UNITS


def is_longitude_unit(units: str | None) -> bool:
    """Return whether units are those by which CF 4.2 tells a longitude.

    Parameters
    ----------
    units : str, optional
        UDUNITS units.
    """
    return (units or "").strip().lower() in _LONGITUDE_UNITS


def _is_certain(variable: Variable) -> bool:
    """Return whether standard name or units, and not only its name, make a variable a latitude or
    longitude."""
    standard_name = str(variable.attributes.get("standard_name", "")).strip().lower()
    told = is_latitude_unit(variable.units) or is_longitude_unit(variable.units)
    return told or standard_name in (Role.LATITUDE, Role.LONGITUDE)


def _describes_plain_dimension(variable: Variable, variables: Mapping[str, Variable]) -> bool:
    """Return whether a variable may be the coordinate of a dimension that has none of its own name.

    Latitude and longitude along the same dimension are those of sites, not of a grid.
    """
    if (
        variable.data.ndim != 1
        or variable.dimensions[0] in variables
        or variable.data.dtype.kind not in "fiu"
    ):
        return False
    if find_role(variable) not in (Role.LATITUDE, Role.LONGITUDE):
        return False
    alike = [
        v for v in variables.values() if v.dimensions == variable.dimensions and v is not variable
    ]
    return not any(find_role(v) in (Role.LATITUDE, Role.LONGITUDE) for v in alike)


def _bounds_names(variables: Mapping[str, Variable]) -> set[str]:
    return {
        str(v.attributes[key])
        for v in variables.values()
        for key in ("bounds", "climatology")
        if key in v.attributes
    }
