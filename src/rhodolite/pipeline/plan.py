"""What a chain would read and write, found without doing it."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from rhodolite.arrays import DryRun, Engine, PlannedPass
from rhodolite.formats.layout import Layout, arrays_to_prepare, stored_chunks
from rhodolite.formats.registry import format_for
from rhodolite.model.dataset import Dataset

_PROGRAM = 100 << 20
"""Bytes that the program and its libraries take, without any data."""


@dataclass(frozen=True)
class Plan:
    """What would be done.

    Parameters
    ----------
    passes : tuple of PlannedPass
        In order; small variables, which are copied at once, are not among them.
    peak : int
        Bytes of memory that are expected at most.
    """

    passes: tuple[PlannedPass, ...]
    peak: int


def plan_writing(
    dataset: Dataset, output: Path, layout: Layout, engine: Engine
) -> Plan:
    """Return the passes by which a dataset would be written."""
    rehearsal = DryRun(engine.workers, engine.memory, engine.executor)
    chosen = format_for(output, layout)
    in_chunks = chosen.chunked and layout.in_chunks
    rehearsal.prepare(
        arrays_to_prepare(dataset, rehearsal, layout)
        if in_chunks
        else [variable.data for variable in dataset.variables.values()]
    )
    for variable in dataset.variables.values():
        itemsize = np.dtype(variable.storage.dtype or variable.data.dtype).itemsize
        if (
            variable.name in dataset.axes.auxiliary
            or variable.data.dtype.kind not in "fiu"
            or not variable.shape
        ):
            continue
        unit = (1, *variable.shape[1:])
        if in_chunks:
            unit = stored_chunks(variable, dataset, layout)
        rehearsal.write(f"writing {variable.name}", variable.data, unit, itemsize)
    return _plan(rehearsal)


def plan_drawing(drawing: Any, dataset: Dataset, engine: Engine) -> Plan:
    """Return the passes by which a dataset would be drawn."""
    rehearsal = DryRun(engine.workers, engine.memory, engine.executor)
    drawing(dataset, rehearsal)
    return _plan(rehearsal)


def _plan(rehearsal: DryRun) -> Plan:
    peak = max((each_pass.held for each_pass in rehearsal.passes), default=0)
    return Plan(tuple(rehearsal.passes), _PROGRAM + peak)
