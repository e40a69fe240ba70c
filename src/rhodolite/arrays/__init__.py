"""Lazy arrays, the blocks they are cut into, and the engine that streams them. Knows no climate."""

from rhodolite.arrays.aligned_views import Aligned, Broadcast, WithoutAxis
from rhodolite.arrays.blocks import IN_CACHE
from rhodolite.arrays.chunk_cache import current_cache
from rhodolite.arrays.dry_run import DryRun, PlannedPass
from rhodolite.arrays.engine import Engine, default_engine, read_small
from rhodolite.arrays.extremes import MinMax
from rhodolite.arrays.laid_out import LaidOut
from rhodolite.arrays.lazy import (
    Array,
    InMemory,
    LazyArray,
    Mapped,
    Region,
    Unreadable,
    whole,
)
from rhodolite.arrays.progress import Progress
from rhodolite.arrays.reduction import (
    Accumulator,
    OnDemand,
    Reduction,
    ReductionResult,
    ResultOnDemand,
    SeriesKernel,
)
from rhodolite.arrays.schedule import is_readable
from rhodolite.arrays.sizes import parse_memory, parse_workers
from rhodolite.arrays.views import (
    Concatenated,
    Elementwise,
    FirstAxisMoved,
    Flattened,
    Selected,
    Stacked,
    Transposed,
)
from rhodolite.arrays.visits import GroupsOfBlocks, KeptDuringVisit, keep_during_visit
from rhodolite.kernels.unpacking import Unpacking

__all__ = [
    "IN_CACHE",
    "Accumulator",
    "Aligned",
    "Array",
    "Broadcast",
    "Concatenated",
    "DryRun",
    "Elementwise",
    "Engine",
    "FirstAxisMoved",
    "Flattened",
    "GroupsOfBlocks",
    "InMemory",
    "KeptDuringVisit",
    "LaidOut",
    "LazyArray",
    "Mapped",
    "MinMax",
    "OnDemand",
    "PlannedPass",
    "Progress",
    "Reduction",
    "ReductionResult",
    "Region",
    "ResultOnDemand",
    "Selected",
    "SeriesKernel",
    "Stacked",
    "Transposed",
    "Unpacking",
    "Unreadable",
    "WithoutAxis",
    "current_cache",
    "default_engine",
    "is_readable",
    "keep_during_visit",
    "parse_memory",
    "parse_workers",
    "read_small",
    "whole",
]
