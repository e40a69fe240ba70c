"""Which variables of a dataset are its coordinates, and which describe others."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from rhodolite.model.axes import (
    Axes,
    Coordinate,
    Role,
    find_role,
    is_certain_position,
)
from rhodolite.model.cf.cell_bounds import why_no_bounds
from rhodolite.model.cf.named_variables import named_in
from rhodolite.model.cf.vocabulary import CELL_BOUNDS
from rhodolite.model.variable import Variable

_HORIZONTAL = {Role.LATITUDE, Role.LONGITUDE}


def find_axes(variables: Mapping[str, Variable]) -> Axes:
    """Sort a dataset's variables into coordinates by role, their helpers, and the data."""
    candidates, grids = _possible_coordinates(variables)
    auxiliary = _auxiliary_names(variables, candidates, grids)
    if len(grids) == 2:
        # What only its name or letter makes a latitude is then an axis of the rotated grid.
        for role in grids:
            rivals = candidates.pop(role, [])
            if certain := [v for v in rivals if is_certain_position(v)]:
                candidates[role] = certain
    used = [v.dimensions for name, v in variables.items() if name not in auxiliary]
    by_role, doubts = {}, []
    for role in Role:
        if rivals := candidates.get(role, []):
            chosen, doubt = _most_used(role, rivals, used)
            by_role[role] = Coordinate(role, chosen, _bounds_of(chosen, variables))
            doubts += doubt
    curvilinear = sites = None
    if len(grids) == 2 and not _HORIZONTAL & by_role.keys():
        curvilinear, doubt = _most_used_grid(grids, used)
        doubts += doubt
    elif not by_role.keys() >= _HORIZONTAL:
        # Positions along one dimension that is neither: a list of sites or cells.
        sites = _sites(variables, auxiliary)
    helpers = frozenset(auxiliary.union(sites or ()))
    return Axes(by_role, curvilinear, helpers, sites, tuple(doubts))


def _auxiliary_names(
    variables: Mapping[str, Variable],
    candidates: Mapping[Role, list[Variable]],
    grids: Mapping[Role, Sequence[Variable]],
) -> set[str]:
    """Return the names of all that only describes data: coordinates, positions and helpers."""
    along_themselves = {n for n, v in variables.items() if v.dimensions == (n,)}
    coordinates = {v.name for rivals in candidates.values() for v in rivals}
    positions = {v.name for rivals in grids.values() for v in rivals}
    return _named_helpers(variables) | along_themselves | coordinates | positions


def _named_helpers(variables: Mapping[str, Variable]) -> set[str]:
    """Return the variables that others name as what describes them."""
    named: set[str] = set()
    for variable in variables.values():
        for key in (*CELL_BOUNDS, "grid_mapping", "coordinates", "cell_measures"):
            named.update(named_in(variable, key))
        if variable.attributes.get("cf_role") == "mesh_topology":
            named.add(variable.name)
            named.update(_parts_of_mesh(variable))
        # Of the terms of a formula, fields such as the pressure at the surface are data, too.
        terms = named_in(variable, "formula_terms")
        named.update(
            name
            for name in terms
            if name in variables and variables[name].data.ndim <= 1
        )
    return named & set(variables)


def _parts_of_mesh(variable: Variable) -> list[str]:
    """Return the names of the variables that make up a mesh of nodes, edges and faces (UGRID
    1.0)."""
    return [
        word
        for key, text in variable.attributes.items()
        if key.endswith(("_connectivity", "_coordinates"))
        for word in str(text).split()
    ]


def _possible_coordinates(
    variables: Mapping[str, Variable],
) -> tuple[dict[Role, list[Variable]], dict[Role, list[Variable]]]:
    """Return what could serve as the coordinate of each role, and latitudes and longitudes with
    two dimensions."""
    possible: dict[Role, list[Variable]] = {}
    grids: dict[Role, list[Variable]] = {}
    bounds = _bounds_names(variables)
    for name, variable in variables.items():
        along_axis = variable.dimensions == (name,) or _describes_plain_dimension(
            variable, variables
        )
        if not along_axis and variable.data.ndim not in (0, 2):
            continue
        role = find_role(variable)
        if role is None:
            continue
        single_number = variable.data.ndim == 0 and variable.data.dtype.kind in "fiu"
        if along_axis or single_number:
            possible.setdefault(role, []).append(variable)
        elif role in (Role.LATITUDE, Role.LONGITUDE) and name not in bounds:
            grids.setdefault(role, []).append(variable)
    return possible, grids


def _most_used_grid(
    grids: Mapping[Role, Sequence[Variable]], used: Sequence[tuple[str, ...]]
) -> tuple[tuple[str, str], list[str]]:
    """Return the latitudes and longitudes with two dimensions on which most data lie, and a doubt
    where others lie on others."""
    pairs = [
        (north, east)
        for north in grids[Role.LATITUDE]
        for east in grids[Role.LONGITUDE]
        if set(north.dimensions) == set(east.dimensions)
    ]
    if not pairs:
        return (grids[Role.LATITUDE][0].name, grids[Role.LONGITUDE][0].name), []
    counts: dict[frozenset[str], int] = {}
    for north, _ in pairs:
        plane = frozenset(north.dimensions)
        counts[plane] = sum(plane <= set(dimensions) for dimensions in used)
    chosen = max(pairs, key=lambda pair: counts[frozenset(pair[0].dimensions)])
    plane = frozenset(chosen[0].dimensions)
    others = [
        f"{north.name} and {east.name}"
        for north, east in pairs
        if counts[frozenset(north.dimensions)] and set(north.dimensions) != plane
    ]
    names = (chosen[0].name, chosen[1].name)
    if not others:
        return names, []
    return names, [
        f"of the grids that data lie on, that of {names[0]} and {names[1]} is worked on, and not "
        f"that of {', '.join(others)}, unless variables on it are chosen"
    ]


def _most_used(
    role: Role, rivals: Sequence[Variable], used: Sequence[tuple[str, ...]]
) -> tuple[Variable, list[str]]:
    """Return which of several coordinates most data run along, and a doubt where others could serve
    as well."""
    counts = {v.name: sum(v.name in dimensions for dimensions in used) for v in rivals}
    chosen = max(rivals, key=lambda v: (counts[v.name], v.data.ndim))
    others = [v.name for v in rivals if v is not chosen and v.data.ndim]
    if not others or not chosen.data.ndim:
        return chosen, []
    names = ", ".join([chosen.name, *others])
    return chosen, [f"{names} could each be the {role}; {chosen.name} is taken"]


def _bounds_of(
    variable: Variable, variables: Mapping[str, Variable]
) -> Variable | None:
    """Return the bounds that a coordinate names, where they can be that."""
    named = (
        variable.attributes.get("bounds")
        or variable.attributes.get("climatology")
        or ""
    )
    bounds = variables.get(str(named))
    fits = bounds is not None and why_no_bounds(variable, bounds) is None
    return bounds if fits else None


def _sites(
    variables: Mapping[str, Variable], auxiliary: set[str]
) -> tuple[str, str] | None:
    """Return the names of latitude and longitude that run along the same dimension; of several
    pairs, those along which most data run."""
    sites: dict[tuple[str, ...], dict[Role, str]] = {}
    for name, variable in variables.items():
        if variable.data.ndim == 1 and variable.data.dtype.kind in "fiu":
            role = find_role(variable)
            if role in (Role.LATITUDE, Role.LONGITUDE):
                sites.setdefault(variable.dimensions, {})[role] = name
    both = {place: pair for place, pair in sites.items() if len(pair) == 2}
    if not both:
        return None
    positions = auxiliary.union(*(pair.values() for pair in both.values()))
    used = [v.dimensions for name, v in variables.items() if name not in positions]
    most = max(both, key=lambda place: sum(place[0] in along for along in used))
    return both[most][Role.LATITUDE], both[most][Role.LONGITUDE]


def _describes_plain_dimension(
    variable: Variable, variables: Mapping[str, Variable]
) -> bool:
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
        v
        for v in variables.values()
        if v.dimensions == variable.dimensions and v is not variable
    ]
    return not any(find_role(v) in (Role.LATITUDE, Role.LONGITUDE) for v in alike)


def _bounds_names(variables: Mapping[str, Variable]) -> set[str]:
    return {
        str(v.attributes[key])
        for v in variables.values()
        for key in ("bounds", "climatology")
        if key in v.attributes
    }
