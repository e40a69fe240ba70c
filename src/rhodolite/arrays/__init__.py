"""Lazy arrays, the blocks they are cut into, and the engine that streams them. Knows no climate."""

from rhodolite.arrays.aligned import Aligned, Broadcast, WithoutAxis
from rhodolite.arrays.engine import Engine, Progress, default_engine
from rhodolite.arrays.extremes import Extremes
from rhodolite.arrays.lazy import Array, InMemory, LazyArray, Mapped, Region, whole
from rhodolite.arrays.reduction import Accumulator, Reduced, Reduction, SeriesWork
from rhodolite.arrays.rehearsal import PlannedPass, Rehearsal
from rhodolite.arrays.sharing import decoded_pieces
from rhodolite.arrays.views import Combined, Concatenated, Flattened, Moved, Selected, Stacked, Transposed

__all__ = [
    "Accumulator",
    "Aligned",
    "Array",
    "Broadcast",
    "Combined",
    "Concatenated",
    "Engine",
    "Extremes",
    "Flattened",
    "InMemory",
    "LazyArray",
    "Mapped",
    "Moved",
    "PlannedPass",
    "Progress",
    "Reduced",
    "Reduction",
    "Region",
    "Rehearsal",
    "Selected",
    "SeriesWork",
    "Stacked",
    "Transposed",
    "WithoutAxis",
    "decoded_pieces",
    "default_engine",
    "whole",
]
