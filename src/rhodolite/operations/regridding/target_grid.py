"""Grids to regrid to: of a step in degrees, or those of other data."""

from __future__ import annotations

import numpy as np

from rhodolite.arrays import Array, InMemory
from rhodolite.errors import DataError
from rhodolite.model.cf.named_variables import mapping_of, named_in
from rhodolite.model.cf.vocabulary import COVERED_AREA
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.mesh import Mesh
from rhodolite.model.variable import Variable
from rhodolite.operations.parameters.grid_step import GridStep

_SLACK = 1e-6
_MOST_CELLS = 100_000_000


def grid_around(step: GridStep, source: Mesh) -> tuple[Mesh, list[Variable]]:
    """Return the grid that covers another, with edges on multiples of the step, and its
    coordinates.

    Of the whole globe longitudes begin at 0.

    Parameters
    ----------
    step : GridStep
        Width of the cells in degrees.
    source : Mesh
        Cells of the old grid.

    Raises
    ------
    DataError
        If the step does not divide the globe, or makes too many cells.
    """
    south, north = source.reach
    west, east = source.span
    near = max(_SLACK, source.slack)
    edges = [_edges(south, north, step.lat, "lat", (-90.0, 90.0), near)]
    whole = east - west > 360 - near
    if whole:
        _need_divisor(step.lon, 360.0, "lon")
        edges.append(np.linspace(0.0, 360.0, round(360.0 / step.lon) + 1))
    else:
        edges.append(_edges(west, east, step.lon, "lon", None, near))
    middles = [(ends[1:] + ends[:-1]) / 2 for ends in edges]
    if middles[0].size * middles[1].size > _MOST_CELLS:
        raise DataError(
            f"--to {step}: {middles[0].size:,} x {middles[1].size:,} cells are too many; choose a "
            "larger step or a smaller region"
        )
    names = source.dimensions if source.regular else ("lat", "lon")
    mesh = Mesh(names, middles[0], middles[1], edges[0], edges[1])
    return mesh, coordinates_of(mesh)


def coordinates_of(mesh: Mesh) -> list[Variable]:
    """Return latitude and longitude of a regular grid, with bounds."""
    coordinates = []
    for name, word, centres, edges in (
        (mesh.dimensions[0], "latitude", mesh.latitudes, mesh.latitude_edges),
        (mesh.dimensions[1], "longitude", mesh.longitudes, mesh.longitude_edges),
    ):
        assert edges is not None
        units = "degrees_north" if word == "latitude" else "degrees_east"
        about = {
            "standard_name": word,
            "long_name": word,
            "units": units,
            "axis": "Y" if word == "latitude" else "X",
            "bounds": f"{name}_bnds",
        }
        coordinates.append(Variable(name, (name,), InMemory(centres), about))
        coordinates.append(
            Variable(
                f"{name}_bnds",
                (name, "bnds"),
                InMemory(np.stack([edges[:-1], edges[1:]], axis=1)),
            )
        )
    return coordinates


def coordinates_like(dataset: Dataset, mesh: Mesh) -> list[Variable]:
    """Return what describes the horizontal cells of a dataset: positions, bounds, axes and
    projection.
    """
    everything = dataset.variables.values()
    mappings = {mapping_of(v) for v in dataset.fields}
    describing = [v for v in everything if _describes_cells(dataset, v, mesh)]
    describing += [v for v in everything if v.name in mappings and v.data.ndim == 0]
    bounds = {name for v in describing for name in named_in(v, "bounds")}
    if mesh.regular and not bounds & dataset.variables.keys():
        return coordinates_of(mesh)
    names = bounds | {v.name for v in describing} - {COVERED_AREA}
    return [v for v in everything if v.name in names]


def _describes_cells(dataset: Dataset, variable: Variable, mesh: Mesh) -> bool:
    """Return whether a variable is a position of cells, or lies along their dimensions alone."""
    if variable.name not in dataset.axes.auxiliary:
        return False
    positions = (*mesh.dimensions, *(dataset.axes.curvilinear or ()))
    along = bool(variable.dimensions) and set(variable.dimensions) <= set(
        mesh.dimensions
    )
    return variable.name in positions or along


def _edges(
    low: float,
    high: float,
    step: float,
    name: str,
    limits: tuple[float, float] | None,
    near: float,
) -> Array:
    first, last = np.floor((low + near) / step), np.ceil((high - near) / step)
    edges = np.arange(first, last + 1) * step
    if limits is not None and (
        edges[0] < limits[0] - _SLACK or edges[-1] > limits[1] + _SLACK
    ):
        _need_divisor(step, 90.0 if abs(180.0 / step % 2) < _SLACK else 180.0, name)
        edges = np.clip(edges, *limits)
        edges = edges[np.concatenate([[True], np.diff(edges) > _SLACK])]
    return edges


def _need_divisor(step: float, whole: float, name: str) -> None:
    times = round(whole / step)
    if times < 1 or abs(whole / step - times) > 1e-6 * times:
        better = whole / max(times, 1)
        raise DataError(
            f"--to: cells of {step:g} degrees do not fit round the globe ({name}); a step of "
            f"{better:.6g} gives {max(times, 1)} of them"
        )
