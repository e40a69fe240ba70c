"""What is done with a block, by whichever worker gets it, and into how many blocks work is cut."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Mapping

import numpy as np

from rhodolite.arrays.blocks import count_blocks
from rhodolite.arrays.lazy import Array, InMemory, LazyArray, Region
from rhodolite.arrays.reduction import Accumulator, SeriesKernel
from rhodolite.arrays.scratch import ScratchBuffer
from rhodolite.kernels.unpacking import Unpacking

_ENOUGH_TASKS = 16
_LEAST_WORK = 1 << 18
"""Blocks of series are not cut below this many bytes to have enough of them."""


def cut_finer(array: LazyArray, block: tuple[int, ...], axis: int) -> tuple[int, ...]:
    """Return smaller blocks where there are few, since whole series are much work: at least so many
    that any number of workers has some, but none smaller than a chunk.

    What is made of a cell does not depend on the cells beside it.
    """
    sizes = list(block)
    for at in (at for at in range(array.ndim) if at != axis):
        step = array.chunks[at] if array.chunks is not None else 1
        while sizes[at] > step and math.prod(sizes) * 8 > _LEAST_WORK:
            if count_blocks(array.shape, tuple(sizes)) >= _ENOUGH_TASKS:
                break
            sizes[at] = -(-sizes[at] // 2 // step) * step
    return tuple(sizes)


def partial_results(
    stored: LazyArray,
    unpack: Unpacking | None,
    accumulators: list[Accumulator],
    region: Region,
) -> list[Accumulator]:
    numbers = stored.read(region)
    partials = [accumulator.start() for accumulator in accumulators]
    for partial in partials:
        partial.add_stored(numbers, unpack, region)
    return partials


def series_results(
    stored: LazyArray,
    unpack: Unpacking | None,
    works: list[SeriesKernel],
    region: Region,
) -> list[tuple[dict[str, Array], Counter[str]]]:
    block = np.moveaxis(stored.read(region), works[0].axis, 0)
    if block.ndim > 1:
        return [
            work.of_stored(block if len(works) == 1 else block.copy(), unpack)
            for work in works
        ]
    # A single series is worked on as one cell, so that results are arrays.
    results = [work.of_stored(block[:, None].copy(), unpack) for work in works]
    return [
        ({name: np.asarray(part)[..., 0] for name, part in values.items()}, count)
        for values, count in results
    ]


def take_in(
    room: dict[str, ScratchBuffer | InMemory],
    values: Mapping[str, Array],
    inner: Region,
    totals: Mapping[str, tuple[int, ...]],
) -> None:
    """Put results of some cells where they belong, and add up those that are sums over cells."""
    for name, part in values.items():
        if name in totals:
            whole_of_it = tuple(slice(0, n) for n in part.shape)
            room[name].put(whole_of_it, room[name].read(whole_of_it) + part)
            continue
        before = part.ndim - len(inner)
        leading = tuple(slice(0, n) for n in room[name].shape[:before])
        room[name].put((*leading, *inner), part)
