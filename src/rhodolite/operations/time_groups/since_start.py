"""Amounts since the start of a forecast, and what of them fell during each step."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Self

import numpy as np

from rhodolite.arrays import (
    Accumulator,
    Array,
    Elementwise,
    Engine,
    LazyArray,
    Reduction,
    Region,
    Selected,
    is_readable,
    read_small,
)
from rhodolite.errors import DataError, warn
from rhodolite.kernels.restarts import amounts_of_steps, fixed_restarts
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.time.time_units import DAY_TICKS, read_time_units
from rhodolite.model.units.udunits import convertible
from rhodolite.model.variable import Variable

_AMOUNTS = ("m", "kg m-2", "J m-2")
_REFERENCE = "forecast_reference_time"
_ROUNDING = 1e-5
"""Part of the largest amount of a step by which sums of single precision may seem to fall."""
_LOOKED_AT = 240
"""Steps of a sample."""
_CELLS = 8
_LARGEST_SAMPLE = 1 << 24


def may_be_since_start(variable: Variable, axis: TimeAxis) -> bool:
    """Return whether values could be amounts since the start of a forecast: of water or energy on
    an area, at steps of less than a day."""
    ticks = axis.step.ticks
    units = variable.units
    short = ticks is not None and ticks < DAY_TICKS and not axis.step.missing
    return (
        short
        and units is not None
        and any(convertible(units, amount) for amount in _AMOUNTS)
    )


@dataclass
class StepFalls(Accumulator):
    """By how much values fall most at each step, how many fall, and the largest change of all.

    Parameters
    ----------
    axis : int
        Where time lies in the differences between steps.
    steps : int
        Number of the differences.
    """

    axis: int
    steps: int
    _found: Array | None = None

    def start(self) -> Self:
        return replace(self, _found=None)

    def add(self, block: Array, region: Region) -> None:
        falls, part = self._empty(), region[self.axis]
        changes = np.moveaxis(block, self.axis, 0).reshape(part.stop - part.start, -1)
        known = np.nan_to_num(changes.astype(np.float64))
        falls[0, part] = np.minimum(known.min(axis=1, initial=0.0), 0.0)
        falls[1, part] = (known < 0).sum(axis=1)
        falls[2, part] = np.abs(known).max(axis=1, initial=0.0)
        self._found = falls

    def merge(self, other: Self) -> None:
        assert other._found is not None
        ours = self._empty() if self._found is None else self._found
        theirs = other._found
        self._found = np.stack(
            [
                np.minimum(ours[0], theirs[0]),
                ours[1] + theirs[1],
                np.maximum(ours[2], theirs[2]),
            ]
        )

    def finish(self) -> dict[str, Array]:
        return {"falls": self._empty() if self._found is None else self._found}

    def _empty(self) -> Array:
        return np.zeros((3, self.steps))


def falls_of(variable: Variable, along: int) -> LazyArray:
    """Return the falls between the steps of a variable, lazily; see `StepFalls`."""
    source, n = variable.floats(), variable.shape[along]
    parts = []
    for steps in (np.arange(1, n), np.arange(n - 1)):
        picks: list[Array | None] = [None] * source.ndim
        picks[along] = steps
        parts.append(Selected(source, picks))
    changes = Elementwise(parts, np.subtract)
    return Reduction(changes, StepFalls(along, n - 1)).output("falls", (3, n - 1))


def restarts_of(falls: Array, resolution: float) -> tuple[int, int] | None:
    """Return the first step at which amounts begin again and the steps between; None where they do
    not, or at no fixed distance.

    Parameters
    ----------
    falls : ndarray, shape (3, n - 1)
        As of `StepFalls`.
    resolution : float
        Smallest difference that the values can have; 0 where it is not known.
    """
    near = max(1.5 * resolution, _ROUNDING * float(falls[2].max(initial=0.0)))
    return fixed_restarts(falls[0] < -near)


def resolution_of(variable: Variable) -> float:
    """Return the smallest difference between packed values; 0 for others."""
    packing = variable.storage.packing
    return 0.0 if packing is None else abs(packing.scale)


@dataclass(frozen=True)
class Starts:
    """At which steps amounts begin, where the data say when their forecasts start.

    Parameters
    ----------
    begins : ndarray of bool, shape (n,)
        Steps of which nothing of their forecast lies before.
    unknown : ndarray of bool, shape (n,)
        The first of their forecast that are there, after steps that are not.
    """

    begins: Array
    unknown: Array

    @classmethod
    def of(cls, dataset: Dataset, axis: TimeAxis) -> Self | None:
        """Return the starts that a dataset tells; None where it tells none."""
        named = (
            v
            for v in dataset.variables.values()
            if v.attributes.get("standard_name") == _REFERENCE
        )
        along = (str(dataset.need(Role.TIME).dimension),)
        reference = next((v for v in named if v.dimensions in ((), along)), None)
        step = axis.step.ticks
        if reference is None or step is None:
            return None
        units = read_time_units(str(reference.units), axis.calendar)
        numbers = read_small(reference.floats()).astype(np.float64)
        starts = np.broadcast_to(units.to_ticks(numbers.reshape(-1)), len(axis))
        leads = axis.ticks - starts
        begins = leads <= step
        first = np.append(True, np.diff(starts) != 0)
        return cls(begins, first & ~begins)


class StepAmounts(LazyArray):
    """What fell during each step, of amounts since a start.

    Parameters
    ----------
    variable : Variable
    along : int
        Where time lies.
    falls : LazyArray
        By how much they fall; see `StepFalls`.
    starts : Starts, optional
        Where the data tell these; otherwise falls tell them.
    """

    dtype = np.dtype("f8")

    def __init__(
        self,
        variable: Variable,
        along: int,
        falls: LazyArray,
        starts: Starts | None = None,
    ) -> None:
        self._source, self._along, self._falls = variable.floats(), along, falls
        self._name, self._resolution = variable.name, resolution_of(variable)
        self._starts = starts
        self.shape, self.chunks = self._source.shape, self._source.chunks

    def sources(self) -> tuple[LazyArray, ...]:
        if self._starts is not None:
            return (self._source,)
        return self._source, self._falls

    def read(self, region: Region) -> Array:
        part = region[self._along]
        begins = self._begins()[part]
        first = max(part.start - 1, 0)
        wider = (
            *region[: self._along],
            slice(first, part.stop),
            *region[self._along + 1 :],
        )
        values = np.moveaxis(self._source.read(wider), self._along, 0)
        before = values[0] if part.start else None
        amounts = amounts_of_steps(values[part.start - first :], before, begins)
        if self._starts is not None:
            amounts[self._starts.unknown[part]] = np.nan
        return np.moveaxis(amounts, 0, self._along)

    def _begins(self) -> Array:
        if self._starts is not None:
            return self._starts.begins
        falls = self._falls.read((slice(0, 3), slice(0, self._falls.shape[1])))
        restarts = restarts_of(falls, self._resolution)
        if restarts is None:
            raise DataError(
                f"{self._name} does not begin again at fixed steps, so it does not hold amounts "
                "since the start of a forecast"
            )
        steps = np.arange(self.shape[self._along])
        return np.asarray(steps % restarts[1] == restarts[0])


@dataclass(frozen=True, eq=False)
class RestartRemark:
    """After how many steps amounts began again, and how many seemed to fall between."""

    variable: Variable
    falls: LazyArray

    def text(self, engine: Engine) -> str:
        """Return a sentence."""
        falls = engine.compute(self.falls)
        content = restarts_of(falls, resolution_of(self.variable))
        if content is None:
            return ""
        begins = np.arange(1, falls.shape[1] + 1) % content[1] == content[0]
        rounded = int(falls[1][~begins].sum())
        text = f"{self.variable.name}: amounts began again every {content[1]} steps"
        return text + (f"; {rounded:,} falls by rounding count as 0" if rounded else "")


def warn_of_restarts(variable: Variable, axis: TimeAxis, along: int) -> None:
    """Warn before a sum where a sample shows that amounts are counted since a start.

    Parameters
    ----------
    variable : Variable
    axis : TimeAxis
    along : int
        Where time lies.
    """
    source = variable.floats()
    if not may_be_since_start(variable, axis) or not is_readable(source):
        return
    chunk = source.chunks or (1,) * source.ndim
    region = tuple(
        slice(0, min(n, _LOOKED_AT if at == along else _CELLS))
        for at, n in enumerate(source.shape)
    )
    reached = [
        -(-part.stop // size) * size for part, size in zip(region, chunk, strict=True)
    ]
    if np.prod(reached) > _LARGEST_SAMPLE:
        return
    values = np.moveaxis(source.read(region), along, 0).astype(np.float64)
    changes = np.nan_to_num(np.diff(values, axis=0)).reshape(len(values) - 1, -1)
    falls = np.stack(
        [changes.min(axis=1), (changes < 0).sum(axis=1), np.abs(changes).max(axis=1)]
    )
    restarts = restarts_of(falls, resolution_of(variable))
    if restarts is not None:
        warn(
            f"{variable.name} never falls but begins again every {restarts[1]} steps, so its "
            "values seem to be amounts since the start of a forecast, of which a sum is many times "
            "too large; convert --amounts since-start first"
        )
