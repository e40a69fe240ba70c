"""Times that were written with few decimals, or in single precision, put back on the regular steps
that they are of."""

from __future__ import annotations

import numpy as np

from rhodolite.arrays import Array, InMemory
from rhodolite.errors import DataError, warn
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.sampling import of_ticks
from rhodolite.model.time.time_units import SECOND_TICKS
from rhodolite.model.variable import Variable

_FEWEST = 8
"""Times, of which fewer fit regular steps by chance."""
_DECIMALS = range(1, 7)
_MINUTES = (1, 2, 3, 4, 5, 6, 10, 12, 15, 20, 30, 60, 90, 120, 180, 240, 360, 480, 720)
"""Steps in use that divide a day."""
_STEPS = np.array(_MINUTES) * 60 * SECOND_TICKS


def put_back_rounded_times(dataset: Dataset) -> Dataset:
    """Return a dataset whose times are regular where they are that but for their last decimal."""
    try:
        axis = dataset.time
    except DataError:  # named where it is needed
        return dataset
    time = dataset.coordinate(Role.TIME)
    if (
        axis is None
        or time is None
        or axis.time_units.months
        or time.bounds is not None
    ):
        return dataset
    if len(axis) < _FEWEST:
        return dataset
    decimals = _decimals_of(axis.numbers)
    if axis.stored == np.float32:
        last, how = (
            float(np.spacing(np.abs(axis.numbers).max().astype("f4"))),
            "single precision",
        )
    elif decimals is not None:
        last, how = 10.0**-decimals, f"{decimals} decimals"
    else:
        return dataset
    exact = _on_regular_steps(axis.ticks, 0.5 * last * axis.time_units.ticks)
    if exact is None:
        return dataset
    step = int(np.diff(exact).min())
    warn(
        f"{dataset.label}: {time.name} is written with {how}, and is one value "
        f"{of_ticks(step)} but for that; it was put on these steps"
    )
    numbers = axis.from_ticks(exact)
    return dataset.with_variables(
        _with_values(v, numbers) if v.name == time.name else v
        for v in dataset.variables.values()
    )


def _with_values(variable: Variable, numbers: Array) -> Variable:
    return variable.replace(data=InMemory(numbers), missing=None)


def _decimals_of(numbers: Array) -> int | None:
    """Return how many decimals all numbers have at most; None where they are whole, or of more."""
    if not numbers.size or (numbers == np.rint(numbers)).all():
        return None
    for decimals in _DECIMALS:
        if np.allclose(numbers, np.round(numbers, decimals), rtol=1e-15, atol=0):
            return decimals
    return None


def _on_regular_steps(ticks: Array, half: float) -> Array | None:
    """Return times at regular steps that differ from others by no more than their rounding; None
    where there are none, or they are regular as they are.

    Parameters
    ----------
    ticks : ndarray of int64, shape (n,)
    half : float
        Half of the last decimal, in ticks.
    """
    distances = np.diff(ticks)
    if (distances <= 0).any() or distances.min() == distances.max():
        return None
    # Shorter steps than the last decimal fit anything.
    fitting = _STEPS[
        (2.2 * half < _STEPS) & (np.abs(_STEPS - np.median(distances)) <= 2 * half)
    ]
    for step in sorted(fitting, key=lambda step: abs(step - distances.mean())):
        times = _nearest_steps(ticks, step, half + SECOND_TICKS)
        if times is not None:
            return times
    return None


def _nearest_steps(ticks: Array, step: int, reach: float) -> Array | None:
    """Return the steps that times stand for; None where one is further than `reach` from any, or
    two stand for the same.

    Steps begin, or have their middle, at whole steps of the day. The first time is as far from its
    own as any other, so that each beginning within reach of it is tried.
    """
    half_step = step / 2
    lowest = int(np.ceil((ticks[0] - reach) / half_step))
    highest = int(np.floor((ticks[0] + reach) / half_step))
    best, least = None, reach
    for number in range(lowest, highest + 1):
        origin = number * half_step
        places = np.rint((ticks - origin) / step).astype(np.int64)
        apart = float(np.abs(ticks - origin - places * step).max())
        if apart <= least and (np.diff(places) >= 1).all():
            best, least = np.asarray(origin + places * step, dtype=np.int64), apart
    return best
