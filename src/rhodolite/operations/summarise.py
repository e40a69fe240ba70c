"""One number, or one a region or band, in place of an axis."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from rhodolite.arrays import Array, Elementwise, LazyArray, Mapped
from rhodolite.errors import DataError, UsageError, warn
from rhodolite.model.axes import Role
from rhodolite.model.cf.diverging import pivots
from rhodolite.model.cf.named_variables import placing_of
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.cell_lists import as_one_row
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.units.conversion import Rescaling
from rhodolite.model.units.udunits import product
from rhodolite.model.variable import UNITS_OF_ONE, Storage, Variable
from rhodolite.operations.axis_reduction.area_mean import weighted_mean
from rhodolite.operations.axis_reduction.layer_thickness import layer_weights
from rhodolite.operations.axis_reduction.plan import AxisPlan, Over, plan_for
from rhodolite.operations.axis_reduction.reduce import reduce_axes
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.parameters.named_statistics import MERGING
from rhodolite.operations.parameters.regions import CellChoice, Regions
from rhodolite.operations.parameters.shares import check_coverage
from rhodolite.operations.parameters.statistic import Measure, Measures
from rhodolite.operations.time_groups.totals import (
    TotalRule,
    adding,
    mean_weights,
    need_ratio_scale,
)
from rhodolite.operations.variables.along_time import time_axis_of
from rhodolite.operations.variables.cell_methods import mark_temperatures
from rhodolite.operations.variables.references import (
    drop_stale,
    list_coordinate,
    without_axes,
)
from rhodolite.operations.vertical.first_level import LevelIntegral

_ONE_BY_ONE = ("lat", "lon", "level", "ensemble", "site")
"""Axes short enough for a block to hold all of them."""


@dataclass(frozen=True)
class Summarise(Operation):
    """A mean or another statistic over the area, regions, bands of latitude, or along an axis.

    Grid cells are weighted by their true area on the sphere, with a region by the part of it
    that lies inside; levels by the thickness of their layers, in pressure where levels are
    pressures; times by their length. Missing values are left out. Regions, and the features of
    a file, are summarised one by one along a dimension `region`, with what else the file says
    of each; sites count alike, all together or in groups (`--over site --by COLUMN`); bands of
    latitude become a latitude coordinate with bounds. A sum adds the values, each multiplied by
    the covered part of its cell; a count is the number of cells with a value. Several statistics
    make one variable each. `--integral` over levels adds up values times the thickness of their
    layers. Over an ensemble, if no statistic is named, the output has the mean, the standard
    deviation, and for anomalies, differences and trends the fraction of members that agree with the
    mean in sign.

    Examples
    --------
    >>> Summarise(over="area", region="Norway,Sweden")  # doctest: +SKIP
    """

    over: Over = parameter("the axis or axes to summarise over", default=Over.AREA)
    statistic: Measures | None = parameter(
        "one or more of mean, sum, min, max, range, std, variance, median, count, p90 (default: "
        "mean)",
        example="NAME,...",
    )
    region: Regions | None = parameter(
        "countries, land, sea, or outlines in files, one by one",
        example="Norway,FILE#NAME",
    )
    cells: CellChoice = parameter(
        "how grid cells on the edge of a region are weighted",
        default=CellChoice.FRACTION,
    )
    latitude_bands: float | None = parameter(
        "width of latitude bands in degrees, in place of one area", example="2"
    )
    integral: bool = parameter(
        "with --over level: the integral over pressure, height or depth", default=False
    )
    by: str | None = parameter(
        "with --over site: a column of the sites, whose words make groups",
        example="COLUMN",
    )
    min_coverage: float | None = parameter(
        "minimum fraction of the weight that must be present (0 to 1)", example="0.5"
    )

    @property
    def needs_all_members(self) -> bool:
        """Whether the members of an ensemble have to be side by side."""
        return self.over is Over.ENSEMBLE

    def check(self) -> None:
        self._check_statistics()
        self._check_places()
        if self.integral and self.over is not Over.LEVEL:
            raise UsageError("--integral goes with --over level")
        if self.integral and self.statistic is not None:
            raise UsageError(
                "--integral goes with no --statistic, which --over level has too"
            )
        if self.min_coverage is not None:
            check_coverage(self.min_coverage)

    def _check_statistics(self) -> None:
        for measure in self.statistic.measures if self.statistic is not None else ():
            if measure.kind not in MERGING and measure.share is None:
                raise UsageError(
                    f"--statistic {measure}: over an axis there are {', '.join(MERGING)}, median "
                    "and p90; make a mask with calc first, and take its mean"
                )

    def _check_places(self) -> None:
        """Refuse options that belong to another --over."""
        given: tuple[tuple[str, object, Over], ...] = (
            ("region", self.region, Over.AREA),
            ("latitude-bands", self.latitude_bands, Over.AREA),
            ("by", self.by, Over.SITE),
        )
        for option, value, over in given:
            if value is not None and self.over is not over:
                raise UsageError(
                    f"--{option} goes with --over {over.value}, not with --over {self.over.value}"
                )
        if self.region is not None and self.latitude_bands is not None:
            raise UsageError(
                "--region and --latitude-bands: give one; for bands of a region, subset --region "
                "first"
            )
        if self.latitude_bands is not None and not 0 < self.latitude_bands <= 180:
            raise UsageError(
                f"--latitude-bands: '{self.latitude_bands:g}' is not the width of a band; write "
                "degrees up to 180"
            )

    def apply(self, dataset: Dataset) -> Dataset:
        """Return a dataset with the statistic in place of the axis.

        Raises
        ------
        DataError
            If there is no such axis, a region covers no cell, or nothing can be summarised.
        """
        if self.over is Over.AREA:
            dataset = as_one_row(dataset)
        plan = plan_for(self, dataset)
        results: dict[str, list[Variable]] = {}
        left = []
        for variable in dataset.fields:
            if not set(plan.dimensions) & set(variable.dimensions):
                continue
            if not variable.numeric or not plan.fits(variable):
                left.append(variable.name)
                continue
            results[variable.name] = self._summarise(dataset, variable, plan)
        if not results:
            raise DataError(
                f"{dataset.label}: no variable of numbers runs along "
                f"{' and '.join(plan.dimensions)}"
            )
        if left:
            warn(
                f"left out, since they cannot be summarised over {self.over.value}: "
                f"{', '.join(left)}"
            )
        return without_axes(dataset, plan.dimensions, results, plan.described)

    def _summarise(
        self, dataset: Dataset, variable: Variable, plan: AxisPlan
    ) -> list[Variable]:
        if self.integral:
            return [self._integral(dataset, variable, plan)]
        if self.over is not Over.ENSEMBLE or self.statistic is not None:
            measures = (
                self.statistic.measures
                if self.statistic is not None
                else (Measure("mean"),)
            )
            statistics = [
                self._apply_measure(dataset, variable, plan, measure)
                for measure in measures
            ]
            if len(statistics) == 1:
                return statistics
            return [
                statistic.replace(name=f"{statistic.name}_{measure}")
                for statistic, measure in zip(statistics, measures, strict=True)
            ]
        mean, spread = (
            self._apply_measure(dataset, variable, plan, Measure(kind))
            for kind in ("mean", "std")
        )
        summaries = [mean, spread.replace(name=f"{variable.name}_spread")]
        if pivots(variable):
            summaries.append(self._agreement(variable, plan))
        others = " ".join(v.name for v in summaries[1:])
        return [mean.edit(ancillary_variables=others), *summaries[1:]]

    def _apply_measure(
        self, dataset: Dataset, variable: Variable, plan: AxisPlan, measure: Measure
    ) -> Variable:
        sums, weights = _over_time(dataset, variable, plan.axis, measure)
        work = plan.collapse(
            variable,
            measure,
            self.min_coverage or 0.0,
            by_share=measure.kind == "sum" or plan.axis is not None,
            weights=weights,
        )
        if plan.plain and measure.kind == "mean" and not self.min_coverage:
            # The same numbers as everywhere else that means over the area are taken.
            horizontal = (Role.LATITUDE, Role.LONGITUDE)
            data: LazyArray = weighted_mean(dataset, variable, horizontal).data
        else:
            pull = self.over.value in _ONE_BY_ONE
            data = reduce_axes(variable.floats(), work, pull=pull)
        factor, units = _scale(variable, measure, sums)
        if factor != 1.0:
            data = Mapped(data, Rescaling(factor, 0.0), "f8")
        left = list(work.kept(variable.dimensions))
        if work.grouped:
            left.insert(work.axes[0], plan.group_dimension)
        dtype, storage = variable.floats().dtype, Storage(dtype=variable.storage.dtype)
        if measure.kind in ("count", "sum"):
            # Single precision holds a statistic of values that came in it, but no sum of many.
            dtype, storage = np.dtype("f8"), Storage()
        result = Variable(
            variable.name,
            tuple(left),
            Mapped(data, np.asarray, dtype),
            _attributes(variable, measure, plan, units, sums),
            storage,
        )
        for name in plan.labels:
            result = list_coordinate(result, name)
        return result

    def _integral(
        self, dataset: Dataset, variable: Variable, plan: AxisPlan
    ) -> Variable:
        """Return the integral over levels: missing levels add nothing."""
        need_ratio_scale(variable)
        (dimension,) = plan.dimensions
        along = variable.dimensions.index(dimension)
        thickness, words = layer_weights(dataset)
        level_units = dataset.need(Role.LEVEL).variable.units or UNITS_OF_ONE
        units = product(variable.units or UNITS_OF_ONE, level_units)
        data = LevelIntegral(variable.floats(), along, thickness)
        dims = tuple(d for d in variable.dimensions if d != dimension)
        gone = ("standard_name", "ancillary_variables", "units_metadata")
        about = {
            **drop_stale(variable, *gone).attributes,
            "long_name": f"integral of {variable.quantity} {words}",
            "units": units,
        }
        storage = Storage(dtype=variable.storage.dtype)
        rounded = Mapped(data, np.asarray, variable.floats().dtype)
        return Variable(variable.name, dims, rounded, about, storage)

    def _agreement(self, variable: Variable, plan: AxisPlan) -> Variable:
        work = plan.collapse(variable, Measure("mean"), 0.0)
        source = variable.floats()
        means = [
            reduce_axes(Mapped(source, part, "f8"), work, pull=True)
            for part in (np.asarray, _above, _below)
        ]
        about = {
            "long_name": f"share of members that agree in the sign of {variable.quantity}",
            "units": "%",
        }
        return Variable(
            f"{variable.name}_agreement",
            tuple(work.kept(variable.dimensions)),
            Mapped(Elementwise(means, _agreeing), np.asarray, "f4"),
            {**about, **placing_of(variable)},
        )


def _over_time(
    dataset: Dataset, variable: Variable, axis: TimeAxis | None, measure: Measure
) -> tuple[TotalRule | None, Array | None]:
    """Return how values add up over time, of a sum, and the weights of the steps."""
    if axis is None:
        return None, None
    if measure.kind != "sum":
        return None, mean_weights(variable, axis)
    sums = adding(variable, axis, time_axis_of(dataset, variable))
    return sums, sums.weights


def _above(values: Array) -> Array:
    return np.where(np.isnan(values), np.nan, values > 0)


def _below(values: Array) -> Array:
    return np.where(np.isnan(values), np.nan, values < 0)


def _agreeing(mean: Array, above: Array, below: Array) -> Array:
    """Return the share of members, in percent, whose sign is that of their mean; zero is neither
    above nor below."""
    share = np.where(mean > 0, above, np.where(mean < 0, below, 1.0 - above - below))
    return np.asarray(100.0 * np.where(np.isnan(mean), np.nan, share))


def _scale(
    variable: Variable, measure: Measure, sums: TotalRule | None
) -> tuple[float, str | None]:
    """Return what to multiply a statistic by, and the units that it then has."""
    if sums is not None:
        return sums.factor, sums.units
    if measure.kind == "sum":
        need_ratio_scale(variable)
    return measure.rescaled(variable)


def _attributes(
    variable: Variable,
    measure: Measure,
    plan: AxisPlan,
    units: str | None,
    sums: TotalRule | None,
) -> dict[str, Any]:
    marked = drop_stale(
        mark_temperatures(variable, measure),
        "units",
        "ancillary_variables",
        "standard_name",
    ).attributes
    attributes = dict(marked)
    if "standard_name" in variable.attributes and measure.keeps_quantity:
        attributes["standard_name"] = variable.attributes["standard_name"]
    if plan.method == "area":
        attributes.pop("grid_mapping", None)
    if sums is not None:
        attributes.pop("standard_name", None)
        attributes |= (
            {"standard_name": sums.standard_name} if sums.standard_name else {}
        )
    if units is not None:
        attributes["units"] = units
    # A mean follows its quantity, since others are often made of it: the annual mean of a mean over
    # an area.
    mean = measure.kind == "mean"
    words = f"{variable.quantity}, mean" if mean else measure.words(variable.quantity)
    attributes["long_name"] = f"{words} {plan.words}"
    if measure.method is not None:
        attributes["cell_methods"] = (
            f"{variable.attributes.get('cell_methods', '')} {plan.method}: {measure.method}".strip()
        )
    return attributes
