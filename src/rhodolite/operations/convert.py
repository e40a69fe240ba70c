"""The same data in other units, in another order of the grid, or packed."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import StrEnum
from typing import Self

import numpy as np

from rhodolite.arrays import InMemory
from rhodolite.errors import DataError, warn
from rhodolite.kernels.sphere import eastward_from
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.indexing import take, turn_longitudes
from rhodolite.model.space.axis_cells import is_region
from rhodolite.model.space.range_text import LongitudeRange
from rhodolite.model.time.step_bounds import Stamp
from rhodolite.model.typed_value import TypedValue
from rhodolite.model.units.conversion import can_be_in
from rhodolite.model.units.known_units import known_units
from rhodolite.model.variable import Storage, Variable
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.parameters.utc_offset import UtcOffset
from rhodolite.operations.selection.indices import longitude_indices, take_cells
from rhodolite.operations.time_groups.local_time import in_local_time
from rhodolite.operations.time_groups.periods import with_ends
from rhodolite.operations.time_groups.rates_of_steps import can_be_rate, rates_of_steps
from rhodolite.operations.time_groups.since_start import (
    RestartRemark,
    Starts,
    StepAmounts,
    falls_of,
    may_be_since_start,
)
from rhodolite.operations.variables.along_time import time_axis_of, variables_along_time
from rhodolite.operations.variables.other_units import in_units
from rhodolite.operations.variables.references import with_bounds


class Longitudes(StrEnum):
    """How longitudes are counted."""

    FROM_ZERO = "0..360"
    ABOUT_ZERO = "-180..180"


class Latitudes(StrEnum):
    """Which way rows run."""

    ASCENDING = "ascending"
    DESCENDING = "descending"


class Amounts(StrEnum):
    """How amounts are counted."""

    SINCE_START = "since-start"
    OF_STEP = "of-step"


class Pack(StrEnum):
    """Which integers real values are kept in."""

    KEEP = "keep"
    INT16 = "int16"
    INT8 = "int8"


@dataclass(frozen=True)
class Units(TypedValue):
    """Target units by variable: `tas=degC,pr=mm day-1`; units alone, under an empty name, are for
    all that they fit."""

    by_name: tuple[tuple[str, str], ...]

    listed = True

    @classmethod
    def parse(cls, text: str) -> Self:
        pairs = []
        for part in text.split(","):
            name, equals, units = (word.strip() for word in part.partition("="))
            if not equals:
                name, units = "", name
            if not units or (equals and not name):
                raise ValueError(
                    f"'{part.strip()}' does not say what is to be in which units; write it like "
                    "tas=degC"
                )
            pairs.append((name, known_units(units)))
        return cls(tuple(pairs))

    def __str__(self) -> str:
        return ",".join(
            f"{name}={units}" if name else units for name, units in self.by_name
        )


@dataclass(frozen=True)
class Convert(Operation):
    """Other units, another order of latitudes and longitudes, packed integers.

    Units are those of UDUNITS. Temperature differences (anomalies, standard deviations) are
    converted without the offset of the scale. Water is converted between mass and depth (such
    as kg m-2 s-1 and mm day-1) by its density, 1000 kg m-3, which is recorded in the attribute
    `comment`. Amounts per month or year (mm month-1) are converted to amounts per day by the
    number of days of that month or year, and so are others to and from these.

    `--amounts since-start` takes amounts that are counted since the start of a forecast, such as
    hourly rain that begins again each day, apart into those of single steps, which end at their
    times; what seems to fall by rounding counts as 0. `--amounts of-step` takes what is
    converted to the units of a rate for amounts of whole steps, and divides it by their lengths:
    monthly mm become mm day-1 by the days of each month. `--stamp` gives times without bounds the
    bounds that follow from where in its step each lies. The data move with their longitudes and
    latitudes; the columns of a region stay in one piece, and run on where it lies across the end.
    Packing to int16 spreads the range of the data over all integers and reports the resolution;
    `keep` writes packed input as it was packed. Without options only the format
    changes, which the suffix of the output names.

    Examples
    --------
    >>> Convert(units="tas=degC", longitude="-180..180")  # doctest: +SKIP
    """

    units: Units | None = parameter(
        "units to convert variables to", example="tas=degC,pr='mm day-1'"
    )
    longitude: Longitudes | None = parameter("longitude convention")
    latitude: Latitudes | None = parameter("order of the latitudes")
    amounts: Amounts | None = parameter("how amounts of the input are counted")
    utc_offset: UtcOffset | None = parameter(
        "by how much local time is ahead of UTC, for days of a place", example="+09:00"
    )
    stamp: Stamp | None = parameter(
        "where each time lies within its step, for data without bounds"
    )
    pack: Pack | None = parameter("integer type to pack the values into")

    def combines_values(self) -> bool:
        """See `Operation.combines_values`."""
        return False

    def apply(self, dataset: Dataset) -> Dataset:
        """Return the converted dataset; data are converted as they are read.

        Raises
        ------
        DataError
            If a variable is not there or its units cannot be converted to those asked for.
        """
        if self.stamp is not None:
            dataset = _stamped(dataset, self.stamp)
        dataset = in_local_time(dataset, self.utc_offset)
        if self.amounts is Amounts.SINCE_START:
            dataset = _amounts_of_steps(dataset)
        dataset = self._in_wanted_units(dataset)
        if self.longitude is not None:
            dataset = _turned(dataset, self.longitude)
        if self.latitude is not None:
            dataset = _sorted_rows(dataset, self.latitude)
        if self.pack is not None:
            dataset = dataset.with_variables(
                _pack(v, self.pack) if v in dataset.fields else v
                for v in dataset.variables.values()
            )
        return dataset

    def _in_wanted_units(self, dataset: Dataset) -> Dataset:
        for name, units in self.units.by_name if self.units else ():
            if self.amounts is Amounts.OF_STEP:
                dataset = _as_rates(dataset, name, units)
            for field_name in [name] if name else _fitting(dataset, units):
                dataset = _in_units(dataset, field_name, units)
        return dataset


def _stamped(dataset: Dataset, stamp: Stamp) -> Dataset:
    """Return a dataset whose times have bounds that follow from where in its step each lies."""
    coordinate = dataset.need(Role.TIME)
    axis = with_ends(dataset, stamp)
    assert axis.bounds is not None
    if coordinate.bounds_variable is None:
        return with_bounds(dataset, coordinate.name, axis.bounds)
    named = coordinate.bounds_variable
    bounds = named.replace(data=InMemory(axis.bounds), storage=Storage(), missing=None)
    return dataset.with_variables(
        bounds if v.name == named.name else v for v in dataset.variables.values()
    )


def _amounts_of_steps(dataset: Dataset) -> Dataset:
    """Return a dataset in which amounts since the start of a forecast are those of single steps."""
    axis = dataset.need_time()
    if axis.step.ticks is None or axis.step.missing:
        raise DataError(
            f"--amounts since-start: the steps of {axis.name} are not even ({axis.step}, "
            f"{axis.step.missing} left out), so what fell between them is not known"
        )
    along_time, _ = variables_along_time(dataset)
    chosen = [v for v in along_time if may_be_since_start(v, axis)]
    if not chosen:
        raise DataError(
            "--amounts since-start: no variable holds amounts of water or energy at steps of less "
            "than a day"
        )
    starts = Starts.of(dataset, axis)
    steps = {v.name: v for v in dataset.variables.values()}
    remarks = list(dataset.remarks)
    for variable in chosen:
        along = time_axis_of(dataset, variable)
        falls = falls_of(variable, along)
        time = dataset.need(Role.TIME).name
        changed = variable.derive(StepAmounts(variable, along, falls, starts))
        steps[variable.name] = changed.edit(cell_methods=f"{time}: sum")
        if starts is None:
            remarks.append(RestartRemark(variable, falls))
    changed_dataset = dataset.with_variables(steps.values(), remarks=tuple(remarks))
    return (
        changed_dataset
        if axis.bounds is not None
        else _stamped(changed_dataset, Stamp.END)
    )


def _as_rates(dataset: Dataset, asked: str, units: str) -> Dataset:
    """Return a dataset in which amounts that are to be in units of a rate are rates."""
    wanted = [dataset.variables[dataset.find(asked)]] if asked else dataset.fields
    rates = {
        v.name: rates_of_steps(dataset, v) for v in wanted if can_be_rate(v, units)
    }
    return dataset.with_variables(
        rates.get(v.name, v) for v in dataset.variables.values()
    )


def _fitting(dataset: Dataset, units: str) -> list[str]:
    """Return the names of the data variables that can be in some units."""
    fields = [
        v.name for v in dataset.fields if v.numeric and v.units and can_be_in(v, units)
    ]
    if not fields:
        units_there = ", ".join(
            f"{v.name} is in {v.units or 'no units'}" for v in dataset.fields
        )
        raise DataError(
            f"--units {units}: nothing can be converted to it; {units_there}"
        )
    return fields


def _in_units(dataset: Dataset, asked: str, units: str) -> Dataset:
    name = dataset.find(asked) if asked not in dataset.variables else asked
    variable = dataset.variables[name]
    if variable.units is None:
        raise DataError(f"{name} has no units, so it cannot be converted to {units}")
    if not variable.numeric or name == (dataset.time.name if dataset.time else None):
        raise DataError(f"{name} is not a quantity that can be converted to {units}")
    _refuse_amounts(variable, units)
    changed = {v.name: v for v in dataset.variables.values()}
    changed[name] = in_units(dataset, variable, units)
    if name in dataset.axes.auxiliary:
        # Coordinates are small, and needed before anything is streamed.
        changed[name] = _kept_in_memory(changed[name])
    bounds = str(variable.attributes.get("bounds", ""))
    if bounds in changed:
        ends = changed[bounds].edit(units=variable.units)
        converted = _kept_in_memory(in_units(dataset, ends, units))
        changed[bounds] = (
            converted if changed[bounds].units else converted.edit("units")
        )
    return dataset.with_variables(changed.values())


def _refuse_amounts(variable: Variable, units: str) -> None:
    """Name what makes a rate of an amount, or an amount of a rate, where one is asked for."""
    if can_be_in(variable, units):
        return
    if can_be_rate(variable, units):
        raise DataError(
            f"{variable.name} is in {variable.units}, and {units} is a rate; if it is the amount "
            "of each step, --amounts of-step divides it by the length of that"
        )
    if can_be_rate(variable.edit(units=units), str(variable.units)):
        raise DataError(
            f"{variable.name} is in {variable.units}, a rate, and {units} is an amount; aggregate "
            "--to month --statistic sum makes amounts"
        )


def _kept_in_memory(variable: Variable) -> Variable:
    return variable.replace(data=InMemory(variable.values()))


def _pack(variable: Variable, pack: Pack) -> Variable:
    storage = variable.storage
    if variable.data.dtype.kind != "f" or (
        pack is Pack.KEEP and storage.packing is None
    ):
        return variable
    if pack is Pack.KEEP:
        assert storage.packing is not None
        return variable.replace(storage=replace(storage, dtype=storage.packing.dtype))
    return variable.replace(storage=Storage(dtype=pack.value, chunks=storage.chunks))


def _turned(dataset: Dataset, wanted: Longitudes) -> Dataset:
    """Return a dataset whose longitudes begin elsewhere; a region stays in one piece."""
    west = 0.0 if wanted is Longitudes.FROM_ZERO else -180.0
    coordinate = dataset.need(Role.LONGITUDE)
    if is_region(coordinate.values):
        west = eastward_from(west, np.unwrap(coordinate.values, period=360.0).min())
    around = LongitudeRange(west, west + 360.0)
    indices, turns = longitude_indices(coordinate, around)
    turned = turn_longitudes(take_cells(dataset, Role.LONGITUDE, indices), turns)
    easternmost = float(turned.need(Role.LONGITUDE).values.max())
    end = 360.0 if wanted is Longitudes.FROM_ZERO else 180.0
    if easternmost > end:
        warn(
            f"{dataset.label}: the region lies across {end:g} degrees east, so that its columns "
            f"run on to {easternmost:g}"
        )
    return turned


def _sorted_rows(dataset: Dataset, wanted: Latitudes) -> Dataset:
    """Return a dataset whose rows go northwards or southwards."""
    coordinate = dataset.need(Role.LATITUDE)
    order = np.argsort(coordinate.values, kind="stable")
    if wanted is Latitudes.DESCENDING:
        order = order[::-1]
    return take(dataset, {str(coordinate.dimension): order})
