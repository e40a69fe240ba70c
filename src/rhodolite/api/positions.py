"""Positions along dimensions, as NumPy has them between square brackets."""

from __future__ import annotations

from typing import Any

import numpy as np

from rhodolite.model.variable import Variable


def picks_of(key: Any, variable: Variable) -> dict[str, Any]:
    """Return positions by the dimension that they are along, for those that are cut.

    Raises
    ------
    IndexError
        As NumPy does, where a position is beyond the end or there are too many.
    """
    given = list(key) if isinstance(key, tuple) else [key]
    dots = [at for at, part in enumerate(given) if part is Ellipsis]
    if dots:
        missing = variable.data.ndim - len(given) + 1
        given[dots[0] : dots[0] + 1] = [slice(None)] * missing
    if len(given) > variable.data.ndim or len(dots) > 1:
        raise IndexError(
            f"{variable.name} has {variable.data.ndim} dimensions, and not {len(given)}"
        )
    picks: dict[str, Any] = {}
    for name, length, part in zip(
        variable.dimensions, variable.shape, given, strict=False
    ):
        if isinstance(part, slice) and part == slice(None):
            continue
        if not isinstance(part, (slice, int, np.integer, list, np.ndarray, range)):
            raise IndexError(
                f"{variable.name}[...]: {part!r} is no position along {name}; positions are "
                "numbers, slices, and lists of numbers; subset chooses by coordinates"
            )
        picks[name] = np.arange(length)[list(part) if isinstance(part, range) else part]
    return picks
