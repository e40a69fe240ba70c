"""The maps of a variable one after another, for formats that hold one map at a place."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from rhodolite.arrays import Array, Engine
from rhodolite.errors import DataError
from rhodolite.model.variable import Variable


def iterate_maps(
    variable: Variable, space: Sequence[str], engine: Engine
) -> Iterator[tuple[dict[str, int], Array]]:
    """Yield each map of a variable, with its index along every other dimension.

    Parameters
    ----------
    variable : Variable
    space : sequence of str
        The dimensions of a map: rows and columns.
    engine : Engine

    Raises
    ------
    DataError
        If the variable does not lie along these dimensions.
    """
    if any(name not in variable.dimensions for name in space):
        raise DataError(
            f"{variable.name} does not have the dimensions {' and '.join(space)}, so there is no "
            "map to write"
        )
    data = variable.floats()
    others = [name for name in variable.dimensions if name not in space]
    order = [variable.dimensions.index(name) for name in (*others, *space)]
    unit = tuple(
        n if name in space else 1
        for name, n in zip(variable.dimensions, data.shape, strict=True)
    )
    data, shape = engine.in_units(data, unit)
    engine.prepare([data])
    regions = list(engine.blocks(data, shape)[2])
    for region, block in engine.stream(
        data.read, regions, f"writing {variable.name}", len(regions), data.nbytes
    ):
        maps = block.transpose(order)
        starts = [region[variable.dimensions.index(name)].start for name in others]
        for at in np.ndindex(maps.shape[: len(others)]):
            place = {
                name: start + n
                for name, start, n in zip(others, starts, at, strict=True)
            }
            yield place, maps[at]
