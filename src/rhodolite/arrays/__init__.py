"""Lazy arrays, the blocks they are cut into, and the engine that streams them. Knows no climate."""

from rhodolite.arrays.engine import Engine, Progress, default_engine
from rhodolite.arrays.extremes import Extremes
from rhodolite.arrays.lazy import Array, InMemory, LazyArray, Mapped, Region, whole
from rhodolite.arrays.reduction import Accumulator, Reduced, Reduction
from rhodolite.arrays.rehearsal import PlannedPass, Rehearsal
from rhodolite.arrays.sharing import decoded_pieces
from rhodolite.arrays.views import Concatenated, Selected

__all__ = [
    "Accumulator",
    "Array",
    "Concatenated",
    "Engine",
    "Extremes",
    "InMemory",
    "LazyArray",
    "Mapped",
    "PlannedPass",
    "Progress",
    "Reduced",
    "Reduction",
    "Region",
    "Rehearsal",
    "Selected",
    "decoded_pieces",
    "default_engine",
    "whole",
]
