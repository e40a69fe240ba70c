"""From one horizontal grid to another."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import StrEnum

import numpy as np

from rhodolite.arrays import Array
from rhodolite.errors import DataError, UsageError, warn
from rhodolite.model.cf.named_variables import named_in
from rhodolite.model.cf.precipitation import tell_precipitation
from rhodolite.model.cf.vocabulary import COVERED_AREA, PLACING, WATER_WORDS
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.cell_lists import as_list, as_one_row, is_cell_list
from rhodolite.model.space.earth_figure import EarthFigure
from rhodolite.model.space.mesh import Mesh
from rhodolite.model.space.mesh_of_dataset import mesh_of
from rhodolite.model.variable import Variable
from rhodolite.operations.axis_reduction.cell_areas import WHOLE_AREA, areas_of_cells
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.parameters.grid_step import GridStep
from rhodolite.operations.parameters.other_dataset import OtherDataset
from rhodolite.operations.parameters.shares import check_coverage
from rhodolite.operations.regridding.remapped_array import Remapped, Weights
from rhodolite.operations.regridding.stored_weights import (
    describe_weights,
    read_weights,
)
from rhodolite.operations.regridding.target_grid import coordinates_like, grid_around
from rhodolite.operations.regridding.weights import (
    bilinear,
    carry_coverage,
    conservative,
    nearest_cells,
)
from rhodolite.operations.variables.references import drop_stale, without_axes

_USUAL_COVERAGE = {"nearest": 0.0, "bilinear": 0.5, "conservative": 0.0}
_CONSERVATIVE_SOURCE = "Jones 1999, Monthly Weather Review 127, 2204-2210"
_LEAVES_OUT = 1.5
"""Widths of old cells in a new one from which bilinear leaves some of them out."""
_NO_DETAIL = 0.4
_WATER = (*WATER_WORDS, "flux")


class RegridMethod(StrEnum):
    """How values get from cells to others."""

    CONSERVATIVE = "conservative"
    BILINEAR = "bilinear"
    NEAREST = "nearest"


@dataclass(frozen=True)
class Regrid(Operation):
    """Values on another horizontal grid: of a step in degrees, or that of another file.

    `conservative` takes the mean weighted by the areas that cells have in common, which
    conserves area integrals of data without gaps; beside a gap a new cell has the mean of what
    is there, for all of its area. With `--order 2` the field varies linearly within cells, which
    is smoother and still conserves them, but can overshoot beside steep changes. `bilinear`
    interpolates between the four nearest centres, or the three around where cells are in a list.
    `nearest` takes the value of the nearest cell, which flags and classes require. Missing values
    are left out, and the weights of the others are normalised: a conservative mean requires any
    value, a bilinear one half of its weight, unless `--min-coverage` says otherwise. A step in
    degrees covers the extent of the data with cell edges at its multiples.

    Examples
    --------
    >>> Regrid(to="2.5", method="conservative")  # doctest: +SKIP
    """

    to: GridStep | None = parameter(
        "width of the new cells in degrees", example="1.0|lat=1,lon=1.25"
    )
    like: OtherDataset | None = parameter(
        "a file whose grid is the target", example="FILE"
    )
    method: RegridMethod = parameter(
        "regridding method", default=RegridMethod.CONSERVATIVE
    )
    order: int = parameter(
        "order of the conservative method: 1 (constant within cells) or 2 (linear within cells)",
        default=1,
    )
    min_coverage: float | None = parameter(
        "minimum fraction of a new cell that must have values (0 to 1)", example="0.5"
    )
    save_weights: str | None = parameter(
        "write the weights to a file, to be used again", example="FILE.nc"
    )
    weights: OtherDataset | None = parameter(
        "weights written before, in place of a target grid", example="FILE.nc"
    )

    def writes(self) -> tuple[str, ...]:
        return () if self.save_weights is None else (self.save_weights,)

    def check(self) -> None:
        given = [
            name
            for name in ("to", "like", "weights")
            if getattr(self, name) is not None
        ]
        if len(given) != 1:
            what = "and ".join(f"--{name} " for name in given) if given else "nothing "
            raise UsageError(
                f"regrid: {what}given; say where to with one of --to 1.0, --like FILE, --weights "
                "FILE"
            )
        if self.order not in (1, 2) or (
            self.order == 2 and self.method is not RegridMethod.CONSERVATIVE
        ):
            raise UsageError(
                f"--order {self.order}: conservative means are of order 1 or 2, other methods have "
                "none"
            )
        if self.min_coverage is not None:
            check_coverage(self.min_coverage)

    def sources(self) -> tuple[str, ...]:
        """See `Step.sources`."""
        conserves = self.method is RegridMethod.CONSERVATIVE and self.weights is None
        return (_CONSERVATIVE_SOURCE,) if conserves else ()

    def combines_values(self) -> bool:
        """See `Operation.combines_values`."""
        return self.method is not RegridMethod.NEAREST

    def apply(self, dataset: Dataset) -> Dataset:
        """Return the dataset on the other grid.

        Raises
        ------
        DataError
            If cells cannot be found, the grids do not meet, or classes would be averaged.
        """
        dataset = as_one_row(dataset)
        source = mesh_of(dataset)
        along = [
            v
            for v in dataset.fields
            if set(source.dimensions) <= set(v.dimensions) and v.name != COVERED_AREA
        ]
        if not along:
            raise DataError(
                f"{dataset.label}: no variable runs along {' and '.join(source.dimensions)}"
            )
        method, target, described, weights = self._grid_and_weights(source, dataset)
        _advise(method, along, source, target, self.order)
        if not np.diff(weights.matrix.indptr).any():
            raise DataError(
                f"{dataset.label}: the new grid and the data do not meet anywhere"
            )
        companions = dict(dataset.companions)
        if self.save_weights is not None:
            companions[self.save_weights] = describe_weights(
                source, target, described, weights, method
            )
        shares = _shares_of_region(dataset, along, source)
        if shares is not None:
            weights, measure = _carry(dataset, shares, target, weights, method)
            described = [*described, measure]
        described = [*described, *_grid_mapping(dataset, target, described)]
        coverage = self.min_coverage
        if coverage is None:
            coverage = _USUAL_COVERAGE[method]
        results = {
            v.name: [_remap(v, source, target, weights, coverage, method, described)]
            for v in along
        }
        result = without_axes(dataset, source.dimensions, results, described)
        return replace(as_list(result), companions=companions)

    def _grid_and_weights(
        self, source: Mesh, dataset: Dataset
    ) -> tuple[str, Mesh, list[Variable], Weights]:
        """Return the method, the new cells and what describes them, and the weights: as a file has
        them, or as they are asked for."""
        if self.weights is not None:
            stored = read_weights(self.weights.dataset, source)
            return stored.method, stored.mesh, stored.described, stored.weights
        target, described = self._target(source)
        weights = self._weights(source, target, dataset)
        return self.method.value, target, described, weights

    def _target(self, source: Mesh) -> tuple[Mesh, list[Variable]]:
        if self.to is not None:
            return grid_around(self.to, source)
        assert self.like is not None
        other = self.like.dataset
        if other.axes.sites and not is_cell_list(other):
            raise DataError(
                f"{other.label}: these are sites and no grid; extract --points takes values at "
                "sites"
            )
        other = as_one_row(other)
        target = mesh_of(other)
        return target, coordinates_like(other, target)

    def _weights(self, source: Mesh, target: Mesh, dataset: Dataset) -> Weights:
        if self.method is RegridMethod.NEAREST:
            return nearest_cells(source, target)
        if self.method is RegridMethod.BILINEAR:
            return bilinear(source, target)
        if self.order == 2 and not (source.regular and target.regular):
            raise DataError(
                f"{dataset.label}: --order 2 is for grids along latitude and longitude; leave it "
                "out for grids whose latitude and longitude have two dimensions"
            )
        return conservative(source, target, self.order)


def _grid_mapping(
    dataset: Dataset, target: Mesh, described: list[Variable]
) -> list[Variable]:
    """Return the variable that says on which sphere or ellipsoid the new positions are; none where
    that is not known, or said already."""
    figure = EarthFigure.of(dataset)
    said = any("grid_mapping_name" in variable.attributes for variable in described)
    return (
        []
        if figure is None or said or not target.regular
        else [figure.grid_mapping("crs")]
    )


def _carry(
    dataset: Dataset,
    shares: Array,
    target: Mesh,
    weights: Weights,
    method: str,
) -> tuple[Weights, Variable]:
    """Return weights by which cells of a region that was cut out count for the part that lies in
    it, and the covered area of the new cells.

    Raises
    ------
    DataError
        If the weights are of second order.
    """
    if weights.correction is not None:
        raise DataError(
            "--order 2 keeps no slopes within a region that was cut out; leave it out, or "
            "regrid first"
        )
    weights, measure = carry_coverage(weights, shares, target, method)
    about = {**dataset.variables[COVERED_AREA].attributes, "units": "m2"}
    about.pop(WHOLE_AREA, None)
    return weights, measure.edit(**about)


def _shares_of_region(
    dataset: Dataset, along: list[Variable], source: Mesh
) -> Array | None:
    """Return which part of each cell counts, where a region was cut out before, flattened in order
    of the cells."""
    named = [v for v in along if COVERED_AREA in named_in(v, "cell_measures")]
    covered = dataset.variables.get(COVERED_AREA)
    on_grid = covered is not None and set(covered.dimensions) == set(source.dimensions)
    if not named or not on_grid:
        return None
    return areas_of_cells(dataset, source, named).shares


def _remap(
    variable: Variable,
    source: Mesh,
    target: Mesh,
    weights: Weights,
    coverage: float,
    method: str,
    described: list[Variable],
) -> Variable:
    rows, columns = (variable.dimensions.index(name) for name in source.dimensions)
    new = dict(zip(source.dimensions, target.dimensions, strict=True))
    remapped = Remapped(
        variable.floats(), (rows, columns), target.shape, weights, coverage
    )
    dimensions = tuple(new.get(name, name) for name in variable.dimensions)
    described_anew = _with_new_references(variable, target, method, described)
    return described_anew.with_floats(remapped, dimensions)


def _with_new_references(
    variable: Variable, target: Mesh, method: str, described: list[Variable]
) -> Variable:
    """Return a variable whose attributes name what describes the new cells, and how its values were
    made."""
    positions = [
        v.name
        for v in described
        if v.data.ndim == 2 and v.dimensions == target.dimensions
    ]
    words = str(variable.attributes.get("coordinates", "")).split()
    listed = [word for word in words if word not in positions]
    if not target.regular:
        listed += positions
    named: dict[str, str] = {}
    if listed:
        named["coordinates"] = " ".join(listed)
    for other in described:
        if "grid_mapping_name" in other.attributes:
            named.setdefault("grid_mapping", other.name)
        if other.name == COVERED_AREA:
            named["cell_measures"] = f"area: {COVERED_AREA}"
    if method == RegridMethod.CONSERVATIVE:
        before = variable.attributes.get("cell_methods", "")
        named["cell_methods"] = f"{before} area: mean".strip()
    return drop_stale(variable, *PLACING).edit(**named)


def _flows(variable: Variable) -> bool:
    """Return whether a variable is an amount or a flux, whose integral matters."""
    words = (
        f"{variable.attributes.get('standard_name', '')} {variable.quantity}".lower()
    )
    return any(word in words for word in _WATER)


def _advise(
    method: str, along: list[Variable], source: Mesh, target: Mesh, order: int
) -> None:
    """Refuse means of classes, and warn of what is seldom meant."""
    classes = [v.name for v in along if not v.numeric]
    if classes and method != RegridMethod.NEAREST:
        raise DataError(
            f"{', '.join(classes)} holds flags or classes, of which there is no mean; add --method "
            "nearest, or choose the others first: subset --variable NAME then regrid"
        )
    water = ", ".join(v.name for v in along if _flows(v) or tell_precipitation(v))
    if order == 2 and water:
        warn(
            f"{water}: --order 2 can overshoot beside steep changes, so that values "
            "below zero come up; --order 1 never does"
        )
    known = source.areas[source.areas > 0]
    ratio = float(np.sqrt(np.median(target.areas) / np.median(known)))
    if method == RegridMethod.BILINEAR:
        _advise_bilinear(ratio, water)
    if ratio < _NO_DETAIL:
        warn(
            f"the new cells are {1 / ratio:.1f} times as narrow as the old, which adds cells and "
            "no detail"
        )


def _advise_bilinear(ratio: float, water: str) -> None:
    if ratio > _LEAVES_OUT:
        warn(
            f"the new cells are {ratio:.1f} times as wide as the old, and bilinear takes the "
            "nearest of those only; --method conservative takes all"
        )
    elif water:
        warn(f"{water}: bilinear does not keep amounts; --method conservative does")
