"""Which axes a statistic takes the place of, and with which weights their cells count."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Any, Protocol

import numpy as np

from rhodolite.arrays import Array, InMemory
from rhodolite.errors import DataError, nearest_names
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.ensemble import member_dimension
from rhodolite.model.labels import site_dimension
from rhodolite.model.space.axis_cells import area_weights
from rhodolite.model.space.mesh import Mesh
from rhodolite.model.space.mesh_of_dataset import mesh_of
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.variable import Variable
from rhodolite.operations.axis_reduction.cell_areas import (
    CellAreas,
    areas_of_cells,
    covered_parts,
)
from rhodolite.operations.axis_reduction.layer_thickness import layer_weights
from rhodolite.operations.axis_reduction.reduce import AxisReduction, CellGroup
from rhodolite.operations.parameters.regions import CellChoice, Regions
from rhodolite.operations.parameters.statistic import Measure
from rhodolite.regions.outlined_area import Outline


class Over(StrEnum):
    """Axes that a statistic takes the place of."""

    AREA = "area"
    LATITUDE = "lat"
    LONGITUDE = "lon"
    LEVEL = "level"
    TIME = "time"
    ENSEMBLE = "ensemble"
    SITE = "site"

    @classmethod
    def _missing_(cls, value: object) -> Over | None:
        """Both horizontal axes by name are the area."""
        named = {part.strip() for part in str(value).split(",")}
        return cls.AREA if named == {"lat", "lon"} else None


_ROLES = {
    Over.LATITUDE: Role.LATITUDE,
    Over.LONGITUDE: Role.LONGITUDE,
    Over.LEVEL: Role.LEVEL,
    Over.TIME: Role.TIME,
}


_TAKEN = ("region", "region_name")
_GROUP = "group"
"""The dimension of groups of sites."""


class SummaryRequest(Protocol):
    """What is asked for: the parameters of `Summarise` that say over what."""

    @property
    def over(self) -> Over: ...
    @property
    def region(self) -> Regions | None: ...
    @property
    def cells(self) -> CellChoice: ...
    @property
    def latitude_bands(self) -> float | None: ...
    @property
    def by(self) -> str | None: ...


@dataclass(frozen=True, eq=False)
class AxisPlan:
    """Which dimensions go, with which weights, and what comes in their place.

    Attributes
    ----------
    dimensions : tuple of str
        That go.
    groups : list of CellGroup
        For each group its cells of these dimensions, in their order, with weights.
    shares : list of CellGroup
        Likewise with the part of a cell that counts, for sums.
    words : str
        Over what, for long names.
    method : str
        Over what, for cell methods.
    group_dimension : str
        Name of the dimension of groups; empty where there is one group.
    label : str
        Name of the text that says which group is which; empty where a coordinate does.
    described : tuple of Variable
        What describes the groups.
    plain : bool
        Whether this is the whole area with no region.
    axis : TimeAxis, optional
        Where time goes.
    """

    dimensions: tuple[str, ...]
    groups: list[CellGroup]
    shares: list[CellGroup]
    words: str
    method: str
    group_dimension: str = ""
    label: str = ""
    described: tuple[Variable, ...] = ()
    plain: bool = False
    axis: TimeAxis | None = None

    @property
    def labels(self) -> list[str]:
        """The names of what is known of each group, beside coordinates of its dimension."""
        if not self.label:
            return []
        return [
            v.name for v in self.described if v.dimensions == (self.group_dimension,)
        ]

    def fits(self, variable: Variable) -> bool:
        """Return whether a variable runs along all dimensions that go."""
        return set(self.dimensions) <= set(variable.dimensions)

    def collapse(
        self,
        variable: Variable,
        measure: Measure,
        coverage: float,
        *,
        by_share: bool = False,
        weights: Array | None = None,
    ) -> AxisReduction:
        """Return what to do with an array of a variable; `by_share` where a cell counts as one, and
        not by its size, or by other `weights` along a single axis."""
        places = [variable.dimensions.index(name) for name in self.dimensions]
        axes = tuple(sorted(places))
        groups = self.shares if by_share else self.groups
        if weights is not None:
            groups = [CellGroup.of(weights)]
        if axes != tuple(places):
            groups = [
                group.transposed(variable.shape[places[0]], variable.shape[places[1]])
                for group in groups
            ]
        return AxisReduction(
            axes,
            tuple(variable.shape[axis] for axis in axes),
            groups,
            measure,
            coverage,
            bool(self.group_dimension),
        )


def plan_for(wish: SummaryRequest, dataset: Dataset) -> AxisPlan:
    """Return which dimensions go, with which weights, and what comes in their place.

    Parameters
    ----------
    wish : SummaryRequest
        What is to be summarised.
    dataset : Dataset

    Raises
    ------
    DataError
        If there is no such axis, a region covers no cell, or the grid has no such axis.
    """
    if wish.over is Over.AREA:
        return _area_plan(wish, dataset)
    if wish.over is Over.ENSEMBLE:
        name = member_dimension(dataset)
        ones = CellGroup.of(np.ones(dataset.lengths[name]))
        return AxisPlan(
            (name,),
            [ones],
            [ones],
            f"over {dataset.lengths[name]} members",
            "realization",
        )
    if wish.over is Over.SITE:
        return _site_plan(dataset, wish.by)
    role = _ROLES[wish.over]
    if dataset.axes.curvilinear and role in (Role.LATITUDE, Role.LONGITUDE):
        raise DataError(
            f"{dataset.label}: latitude and longitude have two dimensions, so nothing lies along a "
            "single one; --latitude-bands 2 gives bands of latitude, regrid a regular grid"
        )
    coordinate = dataset.need(role)
    if coordinate.dimension is None:
        raise DataError(
            f"{dataset.label}: there is one {role} only, so there is nothing to summarise over"
        )
    name = coordinate.dimension
    ones = CellGroup.of(np.ones(coordinate.values.size))
    if wish.over is Over.TIME:
        axis = dataset.need_time()
        lengths = ones if axis.lengths is None else CellGroup.of(axis.lengths)
        return _time_plan(dataset, axis, name, lengths, ones)
    if wish.over is Over.LEVEL:
        weights, words = layer_weights(dataset)
        return AxisPlan((name,), [CellGroup.of(weights)], [ones], words, name)
    return AxisPlan(
        (name,), [CellGroup.of(area_weights(coordinate))], [ones], f"over {role}", name
    )


def _site_plan(dataset: Dataset, by: str | None) -> AxisPlan:
    """Return the plan of a statistic over all sites, or those of each word in a column."""
    name = site_dimension(dataset)
    count = dataset.lengths[name]
    if by is None:
        ones = CellGroup.of(np.ones(count))
        return AxisPlan((name,), [ones], [ones], f"over {count} sites", name)
    columns = [v for v in dataset.variables.values() if v.dimensions == (name,)]
    column = next((v for v in columns if v.name == by), None)
    if column is None:
        raise DataError(
            f"--by: the sites have no column '{by}'. {nearest_names(by, [v.name for v in columns])}"
        )
    words, groups = np.unique(column.values().astype(str), return_inverse=True)
    cells = [np.flatnonzero(groups == at) for at in range(words.size)]
    parts = [CellGroup(inside, np.ones(inside.size)) for inside in cells]
    label = f"{by}_name" if by == _GROUP else by
    described = (
        Variable(label, (_GROUP,), InMemory(words.astype(object)), {"long_name": by}),
        Variable(
            "site_count",
            (_GROUP,),
            InMemory(np.array([inside.size for inside in cells], dtype=np.int32)),
            {"long_name": "number of sites", "units": "1"},
        ),
    )
    said = f"over the sites of each {by}"
    return AxisPlan((name,), parts, parts, said, name, _GROUP, label, described)


def _time_plan(
    dataset: Dataset, axis: TimeAxis, name: str, lengths: CellGroup, ones: CellGroup
) -> AxisPlan:
    """Return the plan of a statistic over all times, which leaves a single time with bounds."""
    coordinate = dataset.need(Role.TIME)
    ends = axis.ends
    bounds = f"{coordinate.name}_bnds"
    about = {
        key: value
        for key, value in coordinate.variable.attributes.items()
        if key in ("units", "calendar", "standard_name", "long_name", "axis")
    }
    described = (
        Variable(
            coordinate.name,
            (),
            InMemory(np.float64(ends.mean())),
            {**about, "bounds": bounds},
        ),
        Variable(bounds, ("bnds",), InMemory(ends)),
    )
    return AxisPlan(
        (name,),
        [lengths],
        [ones],
        "over time",
        coordinate.name,
        described=described,
        axis=axis,
    )


def _area_plan(wish: SummaryRequest, dataset: Dataset) -> AxisPlan:
    mesh = mesh_of(dataset)
    known = areas_of_cells(dataset, mesh)
    nested = wish.region is not None
    if wish.latitude_bands is not None:
        edges = _band_edges(mesh, wish.latitude_bands)
        areas = mesh.in_bands(edges)
        occupied = np.flatnonzero(np.diff(areas.indptr) > 0)
        areas, edges = (
            areas[occupied],
            np.stack([edges[occupied], edges[occupied + 1]], axis=1),
        )
        dimension, label, words = "lat", "", "over each band of latitude"
        described: tuple[Variable, ...] = _band_variables(edges)
    elif wish.region is not None:
        outlines = wish.region.outlines
        areas = wish.region.weights(mesh, wish.cells, outlines)
        dimension, label, words = "region", "region_name", "over each region"
        names = np.array([outline.name for outline in outlines], dtype=object)
        described = (
            Variable(
                label, ("region",), InMemory(names), {"long_name": "name of the region"}
            ),
            *_properties(dataset, outlines),
        )
    else:
        groups = [CellGroup.of(known.areas)], [CellGroup.of(known.shares)]
        return AxisPlan(mesh.dimensions, *groups, "over the area", "area", plain=True)
    groups = _groups(areas, mesh, known, nested=nested)
    return AxisPlan(
        mesh.dimensions, *groups, words, "area", dimension, label, described
    )


def _properties(dataset: Dataset, outlines: Sequence[Outline]) -> list[Variable]:
    """Return what files say of each region besides its name."""
    keys = dict.fromkeys(key for outline in outlines for key in outline.about)
    properties = []
    for key in keys:
        name = re.sub(r"\W+", "_", key).strip("_")
        if not name:
            continue
        if name in dataset.variables or name in dataset.lengths or name in _TAKEN:
            name = f"region_{name}"
        column = _column([outline.about.get(key) for outline in outlines])
        about = {"long_name": f"{key} of the region"}
        properties.append(Variable(name, ("region",), InMemory(column), about))
    return properties


def _column(values: Sequence[Any]) -> Array:
    """Return values as numbers if all of them are, and as text otherwise."""
    if all(value is None or isinstance(value, (int, float)) for value in values):
        return np.array([np.nan if value is None else float(value) for value in values])
    texts = ["" if value is None else str(value) for value in values]
    return np.array(texts, dtype=object)


def _groups(
    areas: Any, mesh: Mesh, known: CellAreas, *, nested: bool
) -> tuple[list[CellGroup], list[CellGroup]]:
    """Return for each area its cells, by the area of the part of each that lies in it, and by that
    part.

    Parameters
    ----------
    areas : sparse array of float64, shape (areas, cells)
        In steradians.
    mesh : Mesh
    known : CellAreas
    nested : bool
        Whether an area may be that of an earlier choice, or larger; bands of latitude cut what was
        chosen.
    """
    whole = known.whole
    by_area, by_share = [], []
    for first, last in zip(areas.indptr[:-1], areas.indptr[1:], strict=True):
        cells, parts = areas.indices[first:last], areas.data[first:last]
        order = np.argsort(cells)
        cells, parts = cells[order], parts[order]
        fractions = covered_parts(parts, mesh, cells)
        shares = fractions * known.shares[cells]
        if nested:
            shares = known.within(fractions, cells)
        some = shares > 0
        cells, shares = cells[some], shares[some]
        by_share.append(CellGroup(cells, shares))
        by_area.append(CellGroup(cells, shares * whole[cells]))
    return by_area, by_share


def _band_edges(mesh: Mesh, width: float) -> Array:
    """Return the edges of bands on multiples of their width, that hold all cells."""
    low, high = mesh.reach
    near = mesh.slack / width
    first, last = np.floor(low / width + near), np.ceil(high / width - near)
    return np.clip(np.arange(first, last + 1) * width, -90.0, 90.0)


def _band_variables(bounds: Array) -> tuple[Variable, Variable]:
    about = {
        "standard_name": "latitude",
        "long_name": "latitude of the band",
        "units": "degrees_north",
        "axis": "Y",
        "bounds": "lat_bnds",
    }
    return (
        Variable("lat", ("lat",), InMemory(bounds.mean(axis=1)), about),
        Variable("lat_bnds", ("lat", "bnds"), InMemory(bounds)),
    )
