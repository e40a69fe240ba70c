"""Axes and the bounds of their cells."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from rhodolite.arrays import Array, read_small
from rhodolite.checking.finding import Finding, advice, error, warning
from rhodolite.model.axes import (
    Role,
    is_in_order,
    is_latitude_unit,
    is_longitude_unit,
)
from rhodolite.model.cf.cell_bounds import why_no_bounds
from rhodolite.model.cf.vocabulary import CELL_BOUNDS
from rhodolite.model.dataset import Dataset
from rhodolite.model.units.udunits import convert, convertible
from rhodolite.model.variable import Variable

_DEGREES = {Role.LATITUDE: "degrees_north", Role.LONGITUDE: "degrees_east"}


def horizontal(dataset: Dataset) -> Iterator[Finding]:
    """Latitude and longitude are there and identified by their units (CF 4.1, 4.2)."""
    positions = _find_positions(dataset)
    for role, variable in positions.items():
        identifies = is_latitude_unit if role is Role.LATITUDE else is_longitude_unit
        if not identifies(variable.units):
            yield _name_wrong_units(role, variable)
    nowhere = [] if positions else _fields_that_lie_nowhere(dataset)
    if nowhere:
        yield warning(
            nowhere[0],
            "latitude and longitude are not identified, so nobody knows where the values belong",
            "CF 4",
            advice="give the coordinates their units: --set NAME:units=degrees_north, --set "
            "NAME:units=degrees_east",
        )
    for doubt in dataset.axes.doubts:
        yield warning(
            "axes",
            doubt,
            "CF 4",
            advice="take the attributes that tell an axis from all but one of them",
        )


def _fields_that_lie_nowhere(dataset: Dataset) -> list[str]:
    """Return fields that should have positions, and do not say why they have none."""
    labels = {
        name
        for name, v in dataset.variables.items()
        if v.data.ndim == 1 and v.data.dtype.kind not in "fiu"
    }
    nowhere = []
    for variable in dataset.fields:
        # A statistic over areas has no latitude and longitude any more; sites may have names alone.
        over_areas = "area:" in str(variable.attributes.get("cell_methods", ""))
        listed = set(str(variable.attributes.get("coordinates", "")).split())
        if variable.data.ndim >= 2 and not over_areas and not labels & listed:
            nowhere.append(variable.name)
    return nowhere


def _find_positions(dataset: Dataset) -> dict[Role, Variable]:
    """Return latitude and longitude: axes, two-dimensional ones, or those of sites."""
    names = dataset.axes.sites or dataset.axes.curvilinear
    if names:
        return dict(
            zip(_DEGREES, (dataset.variables[name] for name in names), strict=True)
        )
    by_role = dataset.axes.by_role
    return {role: by_role[role].variable for role in _DEGREES if role in by_role}


def _name_wrong_units(role: Role, variable: Variable) -> Finding:
    """Return the finding about units that do not identify a latitude or longitude."""
    degrees = _DEGREES[role]
    # Numbers in radians would become other places if they were merely called degrees.
    is_angle = (
        variable.units is not None
        and convertible(variable.units, "radian")
        and abs(float(convert(1.0, variable.units, "degree")) - 1) > 1e-6
    )
    return error(
        variable.name,
        f"is the {role}, but its units are {_quote(variable.units)} and not {degrees}",
        "CF 4.1" if role is Role.LATITUDE else "CF 4.2",
        *([] if is_angle else [("--set", f"{variable.name}:units={degrees}")]),
        advice=f"rhodolite convert --units {variable.name}={degrees}"
        if is_angle
        else "",
    )


def described(dataset: Dataset) -> Iterator[Finding]:
    """Every dimension that data run along has a coordinate."""
    bounds = {
        str(v.attributes.get(key))
        for v in dataset.variables.values()
        for key in CELL_BOUNDS
    }
    known = set(dataset.variables) | _described_dimensions(dataset)
    for variable in dataset.fields:
        if variable.name in bounds:
            continue
        for name in variable.dimensions:
            if name in known:
                continue
            yield advice(
                name,
                f"{variable.name} runs along it, and no coordinate says what its "
                f"{dataset.lengths[name]} steps are",
                "CF 5",
                advice="add a coordinate with the program that wrote the file",
            )
            # Said once, whatever else runs along it.
            known.add(name)


def _described_dimensions(dataset: Dataset) -> set[str]:
    """Return the dimensions that an axis, positions, names or labels describe."""
    described = {str(c.dimension) for c in dataset.axes.by_role.values()}
    if dataset.axes.curvilinear:
        described |= set(dataset.variables[dataset.axes.curvilinear[0]].dimensions)
    for variable in dataset.variables.values():
        if "cf_role" in variable.attributes:
            described |= set(variable.dimensions[:1])
    for variable in dataset.fields:
        for word in str(variable.attributes.get("coordinates", "")).split():
            label = dataset.variables.get(word)
            if label is not None and len(label.dimensions) == 1:
                described |= set(label.dimensions)
    return described


def ordered(dataset: Dataset) -> Iterator[Finding]:
    """Coordinates have no missing values and go one way (CF 5, NUG)."""
    for name, variable in dataset.variables.items():
        if variable.dimensions != (name,) or variable.data.dtype.kind not in "fiu":
            continue
        values = _values(variable)
        if not np.isfinite(values).all():
            yield error(
                name,
                f"{np.count_nonzero(~np.isfinite(values))} of its {values.size} values are "
                "missing, and a coordinate has none",
                "CF 2.5.1",
                advice="choose the part that has coordinates, or repair it with the program that "
                "wrote the file",
            )
            continue
        if not is_in_order(values):
            steps = np.diff(values)
            at = int(np.argmax(steps * np.sign(np.median(steps) or 1) <= 0)) + 1
            yield error(
                name,
                f"goes up and down or repeats itself, first at number {at + 1} ({values[at]:g} "
                f"after {values[at - 1]:g})",
                "CF 5",
                advice=_reorder(dataset, name),
            )


def _reorder(dataset: Dataset, name: str) -> str:
    if name == getattr(dataset.coordinate(Role.TIME), "name", None):
        return (
            "choose the times that are in order, one part at a time, with subset --time, and "
            "join the parts"
        )
    if name == getattr(dataset.coordinate(Role.LONGITUDE), "name", None):
        return "rhodolite convert FILE --longitude -180..180 -o NEW.nc puts longitudes in order"
    return "put it in order with the program that wrote the file"


def bounds(dataset: Dataset) -> Iterator[Finding]:
    """Bounds have two or more edges a cell and enclose its coordinate (CF 7.1)."""
    for variable in dataset.variables.values():
        name = str(variable.attributes.get("bounds", ""))
        if name not in dataset.variables:
            continue
        edges = dataset.variables[name]
        if (why := why_no_bounds(variable, edges)) is not None:
            yield error(
                name,
                f"cannot be the bounds of {variable.name}: {why}",
                "CF 7.1",
                ("--remove", f"{variable.name}:bounds"),
            )
            continue
        for key in ("units", "calendar", "standard_name"):
            if key in edges.attributes and edges.attributes[
                key
            ] != variable.attributes.get(key):
                yield error(
                    name,
                    f"its {key} differ from those of {variable.name}",
                    "CF 7.1",
                    ("--remove", f"{name}:{key}"),
                )
        if (
            edges.shape[-1] == 2
            and variable.data.ndim <= 1
            and variable.data.dtype.kind in "fiu"
        ):
            yield from _enclosing(variable, edges)


def _enclosing(variable: Variable, edges: Variable) -> Iterator[Finding]:
    values, limits = _values(variable).reshape(-1), _values(edges).reshape(-1, 2)
    low, high = limits.min(axis=1), limits.max(axis=1)
    slack = 1e-6 * np.maximum(high - low, 1e-12)
    outside = (values < low - slack) | (values > high + slack)
    if outside.any():
        at = int(np.argmax(outside))
        yield error(
            edges.name,
            f"{np.count_nonzero(outside)} of the {values.size} cells do not hold their coordinate: "
            f"{values[at]:g} is not within {low[at]:g} to {high[at]:g}",
            "CF 7.1",
            ("--remove", f"{variable.name}:bounds"),
            ("--remove", edges.name),
        )


def _values(variable: Variable) -> Array:
    return read_small(variable.floats()).astype(np.float64)


def _quote(units: str | None) -> str:
    return f"'{units}'" if units else "not given"


CHECKS = (horizontal, described, ordered, bounds)
