"""Times as the clocks of a place show them, so that days are those of people there."""

from __future__ import annotations

from datetime import timedelta

import numpy as np

from rhodolite.arrays import InMemory
from rhodolite.errors import DataError, warn
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.local_clock import UTC_OFFSET, local_offset
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.time.time_units import DAY_TICKS
from rhodolite.model.units.udunits import convert
from rhodolite.model.variable import Storage, Variable
from rhodolite.operations.parameters.utc_offset import UtcOffset
from rhodolite.operations.variables.references import with_bounds

_MINUTE_TICKS = DAY_TICKS // (24 * 60)


def need_same_clock(dataset: Dataset, other: Dataset) -> None:
    """Refuse normals of days that begin at other hours.

    Raises
    ------
    DataError
        If one is in local time and the other is not, or of another place.
    """
    ours, theirs = (local_offset(each) or "+00:00" for each in (dataset, other))
    if ours != theirs:
        raise DataError(
            f"{other.label} holds normals of days of UTC{theirs}, and {dataset.label} has those of "
            f"UTC{ours}; --utc-offset turns hourly data into local time"
        )


def in_local_time(dataset: Dataset, offset: UtcOffset | None) -> Dataset:
    """Return a dataset whose times are local ones; as it is where no offset is given.

    Parameters
    ----------
    dataset : Dataset
        With times in universal time.
    offset : UtcOffset, optional

    Raises
    ------
    DataError
        If its times are local already, or stand for whole days or more.
    """
    if offset is None:
        return dataset
    axis = dataset.need_time()
    if axis.bounds is None and axis.cells is not None and not axis.instants:
        # What steps cover shows by midnight, from which they are moved.
        name = dataset.need(Role.TIME).name
        dataset = with_bounds(dataset, name, axis.cells)
    _need_hours(dataset, axis, offset)
    time = dataset.need(Role.TIME)
    local = _ahead(time.variable, time.variable, offset).edit(
        **{UTC_OFFSET: str(offset)},
        comment=f"local time, UTC{offset}; days begin at local midnight",
    )
    shifted = {time.name: local}
    if time.bounds_variable is not None:
        bounds = time.bounds_variable
        shifted[bounds.name] = _ahead(bounds, time.variable, offset)
    return dataset.with_variables(
        shifted.get(v.name, v) for v in dataset.variables.values()
    )


def _need_hours(dataset: Dataset, axis: TimeAxis, offset: UtcOffset) -> None:
    """Refuse times that are local already, or whole days; warn of steps across midnight."""
    before = local_offset(dataset)
    if before is not None:
        raise DataError(
            f"{dataset.label}: {dataset.need(Role.TIME).name} is in local time already "
            f"(UTC{before}); leave --utc-offset out"
        )
    ticks = axis.step.ticks
    if axis.climatological or axis.step.months or (ticks or 0) >= DAY_TICKS:
        raise DataError(
            f"{dataset.label} has one value {axis.step}, so the hours at which its days begin are "
            "not in it; --utc-offset is for steps of less than a day"
        )
    if ticks and (offset.minutes * _MINUTE_TICKS) % ticks:
        warn(
            f"steps of {axis.step} do not begin with days of UTC{offset}; those across midnight "
            "count for the day of their middle"
        )


def _ahead(variable: Variable, time: Variable, offset: UtcOffset) -> Variable:
    """Return times with an offset added, in their own units."""
    units = str(variable.units or time.units)
    unit = units.split(" since ")[0].strip()
    seconds = timedelta(minutes=offset.minutes).total_seconds()
    values = np.asarray(variable.values(), dtype=np.float64) + convert(
        seconds, "s", unit
    )
    return variable.replace(data=InMemory(values), storage=Storage(), missing=None)
