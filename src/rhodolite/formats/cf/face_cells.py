"""Cells that a mesh of nodes and faces describes (UGRID 1.0), as cells with corners."""

from __future__ import annotations

from typing import Any

import numpy as np

from rhodolite.arrays import Array, InMemory, read_small
from rhodolite.errors import DataError
from rhodolite.model.axes import Role, find_role
from rhodolite.model.cf.named_variables import named_in
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable

_ROLE = "mesh_topology"
_FACES = "face"
_POSITIONS = {
    "lat": ("latitude", "degrees_north"),
    "lon": ("longitude", "degrees_east"),
}
_ROLES = {Role.LATITUDE: "lat", Role.LONGITUDE: "lon"}


def add_face_cells(dataset: Dataset) -> Dataset:
    """Return a dataset whose faces have latitudes, longitudes and corners, where a mesh of nodes
    describes them; others as they are.

    Raises
    ------
    DataError
        If the mesh refers to nodes that are not there.
    """
    for mesh in dataset.variables.values():
        if mesh.attributes.get("cf_role") == _ROLE:
            on_faces = [
                v
                for v in dataset.variables.values()
                if v.attributes.get("mesh") == mesh.name
                and v.attributes.get("location") == _FACES
            ]
            if on_faces and not _have_cells(dataset, on_faces):
                return _with_cells(dataset, mesh, on_faces)
    return dataset


def _have_cells(dataset: Dataset, on_faces: list[Variable]) -> bool:
    """Return whether the data on faces name positions with corners, as they do once these were
    added."""
    named = {name for v in on_faces for name in named_in(v, "coordinates")}
    positions = [dataset.variables[name] for name in named & dataset.variables.keys()]
    with_corners = [v for v in positions if named_in(v, "bounds")]
    return len(with_corners) >= len(_POSITIONS)


def _with_cells(dataset: Dataset, mesh: Variable, on_faces: list[Variable]) -> Dataset:
    faces = _named(dataset, mesh, "face_node_connectivity")
    if faces is None:
        return dataset
    corners = _corners(dataset, mesh, faces)
    # Of a matrix of nodes by faces, the faces come last.
    own = mesh.attributes.get("face_dimension", faces.dimensions[0])
    dimension = str(own)
    added, names = [], []
    for short, numbers in zip(_POSITIONS, corners, strict=True):
        standard_name, units = _POSITIONS[short]
        name = short
        while {name, f"{name}_bnds"} & dataset.variables.keys():
            name = f"{mesh.name}_{name}"
        about: dict[str, Any] = {"standard_name": standard_name, "units": units}
        about["bounds"] = f"{name}_bnds"
        middles = InMemory(_middles(*corners)[short])
        added.append(Variable(name, (dimension,), middles, about))
        bounds = Variable(f"{name}_bnds", (dimension, "corner"), InMemory(numbers))
        added.append(bounds)
        names.append(name)
    on_mesh = {variable.name for variable in on_faces}
    changed = [
        v.edit(coordinates=" ".join(names)) if v.name in on_mesh else v
        for v in dataset.variables.values()
    ]
    return dataset.with_variables([*changed, *added])


def _named(dataset: Dataset, mesh: Variable, key: str) -> Variable | None:
    return dataset.variables.get(str(mesh.attributes.get(key, "")))


def _corners(dataset: Dataset, mesh: Variable, faces: Variable) -> tuple[Array, Array]:
    """Return latitudes and longitudes of the corners of each face, NaN where it has fewer than
    others."""
    nodes: dict[str, Array] = {}
    for word in str(mesh.attributes.get("node_coordinates", "")).split():
        variable = dataset.variables.get(word)
        role = None if variable is None else find_role(variable)
        if variable is not None and role in _ROLES:
            nodes[_ROLES[role]] = read_small(variable.floats()).astype(np.float64)
    if nodes.keys() != _POSITIONS.keys():
        raise DataError(
            f"{dataset.label}: the mesh {mesh.name} does not name latitudes and longitudes of its "
            "nodes"
        )
    numbers = read_small(faces.floats()).astype(np.float64)
    if (
        mesh.attributes.get("face_dimension", faces.dimensions[0])
        == faces.dimensions[-1]
    ):
        numbers = numbers.T
    at = numbers - float(faces.attributes.get("start_index", 0))
    absent = np.isnan(at)
    places = np.where(absent, 0, at).astype(np.intp)
    if places.min() < 0 or places.max() >= nodes["lat"].size:
        raise DataError(
            f"{dataset.label}: {faces.name} refers to nodes that are not there; its start_index "
            "may be wrong"
        )
    return tuple(  # type: ignore[return-value]
        np.where(absent, np.nan, nodes[name][places]) for name in _POSITIONS
    )


def _middles(latitudes: Array, longitudes: Array) -> dict[str, Array]:
    """Return the middle of the corners of each face on the sphere, in degrees."""
    north, east = np.radians(latitudes), np.radians(longitudes)
    x, y, z = (
        np.nanmean(part, axis=1)
        for part in (
            np.cos(north) * np.cos(east),
            np.cos(north) * np.sin(east),
            np.sin(north),
        )
    )
    return {
        "lat": np.degrees(np.arctan2(z, np.hypot(x, y))),
        "lon": np.degrees(np.arctan2(y, x)),
    }
