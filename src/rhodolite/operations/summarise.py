"""One number, or one a region or band, in place of an axis."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Any

import numpy as np

from rhodolite.arrays import Array, InMemory, LazyArray, Mapped
from rhodolite.errors import DataError, UsageError, warn
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.grid import area_weights
from rhodolite.model.members import member_dimension
from rhodolite.model.mesh import EARTH_RADIUS, Mesh
from rhodolite.model.signs import pivots
from rhodolite.model.time import TimeAxis
from rhodolite.model.units import has_offset_zero, squared
from rhodolite.model.variable import UNITS_OF_ONE, Storage, Variable
from rhodolite.operations.amounts import Adding, adding
from rhodolite.operations.areas import COVERED_AREA, Areas, CellChoice
from rhodolite.operations.averaging import cell_measure, mean_over
from rhodolite.operations.collapsing import CellGroup, Collapse, collapsed
from rhodolite.operations.declaration import operation, parameter
from rhodolite.operations.measures import Measure, Measures
from rhodolite.operations.normals import check_coverage
from rhodolite.operations.rescaling import Rescaling, of_differences
from rhodolite.operations.reshaping import changed, with_coordinate, without_axes
from rhodolite.operations.thickness import layer_weights

_KINDS = ("mean", "sum", "count", "min", "max", "range", "std", "variance")
_ONE_BY_ONE = ("lat", "lon", "level", "ensemble")
"""Axes short enough for a block to hold all of them."""


class Over(StrEnum):
    """Axes that a statistic takes the place of."""

    AREA = "area"
    LATITUDE = "lat"
    LONGITUDE = "lon"
    LEVEL = "level"
    TIME = "time"
    ENSEMBLE = "ensemble"


_ROLES = {Over.LATITUDE: Role.LATITUDE, Over.LONGITUDE: Role.LONGITUDE, Over.LEVEL: Role.LEVEL, Over.TIME: Role.TIME}


@operation
@dataclass(frozen=True)
class Summarise:
    """A mean or another statistic over the area, regions, bands of latitude, or along an axis.

    Cells weigh by their true area on the sphere, and with a region by the part of it that lies inside;
    levels by the thickness of their layers, in pressure where levels are pressures; times by their length.
    Missing values are left out. Regions, and the features of a file, are summarised one by one along a
    dimension `region`; bands of latitude come as a latitude with bounds. A sum adds values, each times the
    covered part of its cell; a count says how many cells have a value. Of several statistics each makes a variable
    of its own. Over the members of an ensemble,
    where no statistic is named, come their mean, their standard deviation, and of departures and trends the share of
    members that agree with the mean in sign.

    Examples
    --------
    >>> Summarise(over="area", region="Norway,Sweden")  # doctest: +SKIP
    """

    over: Over = parameter("what the statistic takes the place of", default=Over.AREA)
    statistic: Measures | None = parameter(
        "one or more of mean, sum, min, max, range, std, variance, median, count, p90 (default: mean)", example="NAME,..."
    )
    region: Areas | None = parameter(
        "countries, land, sea, or outlines in files, one by one", example="Norway,FILE#NAME"
    )
    cells: CellChoice = parameter("which part of a cell on the edge of a region counts", default=CellChoice.FRACTION)
    latitude_bands: float | None = parameter("bands of latitude so many degrees wide, in place of one area",
                                             example="2")  # fmt: skip
    min_coverage: float | None = parameter("share of the weight that has to be there", example="0.5")

    @property
    def needs_all_members(self) -> bool:
        """Whether the members of an ensemble have to be side by side."""
        return self.over is Over.ENSEMBLE

    def check(self) -> None:
        for measure in self.statistic.measures if self.statistic is not None else ():
            if measure.kind not in _KINDS and measure.share is None:
                raise UsageError(f"--statistic {measure}: over an axis there are {', '.join(_KINDS)}, median and p90; "
                                 "make a mask with calc first, and take its mean")  # fmt: skip
        if self.over is not Over.AREA and (self.region is not None or self.latitude_bands is not None):
            option = "region" if self.region is not None else "latitude-bands"
            raise UsageError(f"--{option} goes with --over area, not with --over {self.over.value}")
        if self.region is not None and self.latitude_bands is not None:
            raise UsageError("--region and --latitude-bands: give one; for bands of a region, subset --region first")
        if self.latitude_bands is not None and not 0 < self.latitude_bands <= 180:
            raise UsageError(
                f"--latitude-bands: '{self.latitude_bands:g}' is no width of a band; write degrees up to 180"
            )
        if self.min_coverage is not None:
            check_coverage(self.min_coverage)

    def __call__(self, dataset: Dataset) -> Dataset:
        """Return a dataset with the statistic in place of the axis.

        Raises
        ------
        DataError
            If there is no such axis, a region covers no cell, or nothing can be summarised.
        """
        plan = _plan(self, dataset)
        made: dict[str, list[Variable]] = {}
        left = []
        for variable in dataset.data_variables:
            if not set(plan.dimensions) & set(variable.dimensions):
                continue
            if not variable.numeric or not plan.fits(variable):
                left.append(variable.name)
                continue
            made[variable.name] = self._summarised(dataset, variable, plan)
        if not made:
            raise DataError(f"{dataset.label}: no variable of numbers runs along {' and '.join(plan.dimensions)}")
        if left:
            warn(f"left out, since they cannot be summarised over {self.over.value}: {', '.join(left)}")
        return without_axes(dataset, plan.dimensions, made, plan.described)

    def _summarised(self, dataset: Dataset, variable: Variable, plan: _Plan) -> list[Variable]:
        if self.over is not Over.ENSEMBLE or self.statistic is not None:
            measures = self.statistic.measures if self.statistic is not None else (Measure("mean"),)
            found = [self._one(dataset, variable, plan, measure) for measure in measures]
            if len(found) == 1:
                return found
            return [one.with_(name=f"{one.name}_{measure}") for one, measure in zip(found, measures, strict=True)]
        mean, spread = (self._one(dataset, variable, plan, Measure(kind)) for kind in ("mean", "std"))
        made = [mean, spread.with_(name=f"{variable.name}_spread")]
        if pivots(variable):
            made.append(self._agreement(variable, plan))
        others = " ".join(v.name for v in made[1:])
        return [mean.without(ancillary_variables=others), *made[1:]]

    def _one(self, dataset: Dataset, variable: Variable, plan: _Plan, measure: Measure) -> Variable:
        sums = adding(variable, plan.axis) if plan.axis is not None and measure.kind == "sum" else None
        by_share = measure.kind == "sum" and not (sums and sums.of_rates)
        work = plan.collapse(variable, measure, self.min_coverage or 0.0, by_share=by_share)
        if plan.plain and measure.kind == "mean" and not self.min_coverage:
            data: LazyArray = mean_over(dataset, variable, (Role.LATITUDE, Role.LONGITUDE)).data
        else:
            data = collapsed(variable.floats(), work, pull=self.over.value in _ONE_BY_ONE)
        factor, units = _scale(variable, measure, sums)
        if factor != 1.0:
            data = Mapped(data, Rescaling(factor, 0.0), "f8")
        kept = list(work.kept(variable.dimensions))
        if work.grouped:
            kept.insert(work.axes[0], plan.group_dimension)
        # Single precision holds a statistic of values that came in it, but no count or sum of many.
        dtype = np.dtype("f8") if measure.kind in ("count", "sum") else variable.floats().dtype
        result = Variable(variable.name, tuple(kept), Mapped(data, np.asarray, dtype),
                          _attributes(variable, measure, plan, units, sums),
                          Storage(dtype=None if dtype == "f8" and measure.kind in ("count", "sum")
                                  else variable.storage.dtype))  # fmt: skip
        return with_coordinate(result, plan.label) if plan.label else result

    def _agreement(self, variable: Variable, plan: _Plan) -> Variable:
        signs = variable.with_(data=Mapped(variable.floats(), np.sign, variable.floats().dtype), missing=None)
        work = plan.collapse(variable, Measure("mean"), 0.0)
        # With p members above and q below zero, the greater share is (1 + |p - q|) / 2 where none is zero.
        mean = collapsed(signs.floats(), work, pull=True)
        about = {"long_name": f"share of members that agree in the sign of {variable.quantity}", "units": "%"}
        listed = {key: v for key, v in variable.attributes.items() if key in ("coordinates", "grid_mapping")}
        return Variable(f"{variable.name}_agreement", tuple(work.kept(variable.dimensions)),
                        Mapped(mean, _agreeing, "f4"), {**about, **listed})  # fmt: skip


@dataclass(frozen=True, eq=False)
class _Plan:
    """Which dimensions go, with which weights, and what comes in their place.

    Attributes
    ----------
    dimensions : tuple of str
        That go.
    groups : list of ndarray
        For each group the weights of all cells of these dimensions, in their order.
    shares : list of ndarray
        Likewise the part of a cell that counts, for sums.
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
    groups: list[Array]
    shares: list[Array]
    words: str
    method: str
    group_dimension: str = ""
    label: str = ""
    described: tuple[Variable, ...] = ()
    plain: bool = False
    axis: TimeAxis | None = None

    def fits(self, variable: Variable) -> bool:
        """Return whether a variable runs along all dimensions that go."""
        return set(self.dimensions) <= set(variable.dimensions)

    def collapse(self, variable: Variable, measure: Measure, coverage: float, *, by_share: bool = False) -> Collapse:
        """Return what to do with an array of a variable; `by_share` where a cell counts as one, and not by its size."""
        places = [variable.dimensions.index(name) for name in self.dimensions]
        axes = tuple(sorted(places))
        lengths = [variable.shape[axis] for axis in places]
        groups = []
        for weights in self.shares if by_share else self.groups:
            ordered = weights.reshape(lengths)
            if axes != tuple(places):
                ordered = ordered.transpose(np.argsort(places))
            groups.append(CellGroup.of(ordered.reshape(-1)))
        return Collapse(axes, tuple(variable.shape[axis] for axis in axes), groups, measure, coverage,
                        bool(self.group_dimension))  # fmt: skip


def _plan(wish: Summarise, dataset: Dataset) -> _Plan:
    if wish.over is Over.AREA:
        return _area_plan(wish, dataset)
    if wish.over is Over.ENSEMBLE:
        name = member_dimension(dataset)
        ones = np.ones(dataset.sizes[name])
        return _Plan((name,), [ones], [ones], f"over {ones.size} members", "realization")
    role = _ROLES[wish.over]
    if dataset.axes.curvilinear and role in (Role.LATITUDE, Role.LONGITUDE):
        raise DataError(f"{dataset.label}: latitude and longitude have two dimensions, so nothing lies along a single "
                        "one; --latitude-bands 2 gives bands of latitude, regrid a regular grid")  # fmt: skip
    coordinate = dataset.need(role)
    if coordinate.dimension is None:
        raise DataError(f"{dataset.label}: there is one {role} only, so there is nothing to summarise over")
    name = coordinate.dimension
    ones = np.ones(coordinate.values.size)
    if wish.over is Over.TIME:
        axis = dataset.need_time()
        lengths = ones if axis.lengths is None else axis.lengths
        return _time_plan(dataset, axis, name, lengths, ones)
    if wish.over is Over.LEVEL:
        weights, words = layer_weights(dataset)
        return _Plan((name,), [weights], [ones], words, name)
    return _Plan((name,), [area_weights(coordinate)], [ones], f"over {role}", name)


def _time_plan(dataset: Dataset, axis: TimeAxis, name: str, lengths: Array, ones: Array) -> _Plan:
    """Return the plan of a statistic over all times, which leaves a single time with bounds."""
    coordinate = dataset.need(Role.TIME)
    edges = axis.bounds if axis.bounds is not None else coordinate.values[:, None]
    ends = np.array([edges.min(), edges.max()])
    bounds = f"{coordinate.name}_bnds"
    about = {key: value for key, value in coordinate.variable.attributes.items()
             if key in ("units", "calendar", "standard_name", "long_name", "axis")}  # fmt: skip
    described = (Variable(coordinate.name, (), InMemory(np.float64(ends.mean())), {**about, "bounds": bounds}),
                 Variable(bounds, ("bnds",), InMemory(ends)))  # fmt: skip
    return _Plan((name,), [lengths], [ones], "over time", coordinate.name, described=described, axis=axis)


def _area_plan(wish: Summarise, dataset: Dataset) -> _Plan:
    mesh = Mesh.of(dataset)
    whole, share = _measured(dataset, mesh)
    if wish.latitude_bands is not None:
        edges = _band_edges(mesh, wish.latitude_bands)
        areas = mesh.in_bands(edges)
        held = np.flatnonzero(np.diff(areas.indptr) > 0)
        areas, edges = areas[held], np.stack([edges[held], edges[held + 1]], axis=1)
        dimension, label, words = "lat", "", "over each band of latitude"
        described: tuple[Variable, ...] = _band_variables(edges)
    elif wish.region is not None:
        outlines = wish.region.outlines()
        areas = wish.region.weights(mesh, wish.cells, outlines)
        dimension, label, words = "region", "region_name", "over each region"
        names = np.array([outline.name for outline in outlines], dtype=object)
        described = (Variable(label, ("region",), InMemory(names), {"long_name": "name of the region"}),)
    else:
        return _Plan(mesh.dimensions, [whole], [share], "over the area", "area", plain=True)
    parts = _divided(areas, mesh)
    return _Plan(mesh.dimensions, [part * whole for part in parts], [part * share for part in parts], words, "area",
                 dimension, label, described)  # fmt: skip


def _measured(dataset: Dataset, mesh: Mesh) -> tuple[Array, Array]:
    """Return the area of each cell, and the part of it that counts where an earlier choice of a region says so."""
    whole = mesh.areas.reshape(-1)
    for variable in dataset.data_variables:
        found = cell_measure(dataset, variable)
        if found is not None and set(found.dimensions) == set(mesh.dimensions):
            values = np.nan_to_num(found.values().astype(np.float64))
            values = (values if found.dimensions == mesh.dimensions else values.T).reshape(-1)
            if found.name != COVERED_AREA:
                return values, np.where(values > 0, 1.0, 0.0)
            return values, np.clip(values / (whole * EARTH_RADIUS**2), 0.0, 1.0)
    return whole, np.ones(mesh.size)


def _divided(areas: Any, mesh: Mesh) -> list[Array]:
    """Return for each area the part of every cell that lies in it, from 0 to 1."""
    whole = mesh.areas.reshape(-1)
    rows = [areas[[at]].toarray()[0] for at in range(areas.shape[0])]
    return [np.divide(row, whole, out=np.zeros(whole.shape), where=whole > 0) for row in rows]


def _band_edges(mesh: Mesh, width: float) -> Array:
    """Return the edges of bands on multiples of their width, that hold all cells."""
    low, high = mesh.reach
    first, last = np.floor(low / width + 1e-9), np.ceil(high / width - 1e-9)
    return np.clip(np.arange(first, last + 1) * width, -90.0, 90.0)


def _band_variables(bounds: Array) -> tuple[Variable, Variable]:
    about = {"standard_name": "latitude", "long_name": "latitude of the band", "units": "degrees_north", "axis": "Y",
             "bounds": "lat_bnds"}  # fmt: skip
    return (Variable("lat", ("lat",), InMemory(bounds.mean(axis=1)), about),
            Variable("lat_bnds", ("lat", "bnds"), InMemory(bounds)))  # fmt: skip


def _agreeing(mean_sign: Array) -> Array:
    return np.asarray(50.0 * (1.0 + np.abs(mean_sign)))


def _scale(variable: Variable, measure: Measure, sums: Adding | None) -> tuple[float, str | None]:
    """Return what to multiply a statistic by, and the units that it then has."""
    if sums is not None:
        return sums.factor, sums.units
    if measure.kind == "count":
        return 1.0, UNITS_OF_ONE
    if measure.kind in ("std", "range", "variance"):
        factor, units = of_differences(variable.units)
        if measure.kind == "variance":
            return factor**2, None if units is None else squared(units)
        return factor, units
    if measure.kind == "sum" and variable.units and has_offset_zero(variable.units):
        raise DataError(f"{variable.name} is in {variable.units}, whose zero is arbitrary, so a sum means nothing; use "
                        "--statistic mean, or convert --units to K")  # fmt: skip
    return 1.0, variable.units


def _attributes(variable: Variable, measure: Measure, plan: _Plan, units: str | None,
                sums: Adding | None) -> dict[str, Any]:  # fmt: skip
    found = changed(variable, "units", "ancillary_variables", "standard_name", "grid_mapping").attributes
    kept = dict(found)
    for key in ("standard_name", "grid_mapping"):
        if key in variable.attributes and not (
            key == "standard_name" and (measure.counts or measure.kind == "variance")
        ):
            kept[key] = variable.attributes[key]
    if plan.method == "area":
        kept.pop("grid_mapping", None)
    if sums is not None:
        kept.pop("standard_name", None)
        kept |= {"standard_name": sums.standard_name} if sums.standard_name else {}
    if units is not None:
        kept["units"] = units
    if measure.kind in ("std", "range") and variable.units and has_offset_zero(variable.units):
        kept["units_metadata"] = "temperature: difference"
    kept["long_name"] = f"{measure.words(variable.quantity)} {plan.words}"
    if measure.method is not None:
        kept["cell_methods"] = f"{variable.attributes.get('cell_methods', '')} {plan.method}: {measure.method}".strip()
    return kept
