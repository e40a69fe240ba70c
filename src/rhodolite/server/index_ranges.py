"""Ranges of indices in requests of DAP, such as ``[0:2:9]``, whose ends are included."""

from __future__ import annotations

import re

from rhodolite.model.variable import Variable
from rhodolite.server.limits import Refused
from rhodolite.server.served import Slices, whole

_RANGE = re.compile(r"\[(?:(\d{1,12})(?::(\d{1,12}))?(?::(\d{0,12}))?)?\]")


def slices_named(variable: Variable, ranges: str) -> Slices:
    """Return the slices that ranges name, one for each dimension; all of each where there is none.

    Parameters
    ----------
    variable : Variable
    ranges : str

    Raises
    ------
    Refused
        If they are not understood, or lie beyond the variable.
    """
    if not ranges:
        return whole(variable)
    matches = list(_RANGE.finditer(ranges))
    if "".join(match.group() for match in matches) != ranges:
        raise Refused(
            400,
            f"'{ranges}' is not understood; write [start:stop] or [start:step:stop]",
        )
    if len(matches) != len(variable.shape):
        raise Refused(
            400,
            f"{variable.name} has {len(variable.shape)} dimensions, and {len(matches)} "
            "are given",
        )
    return tuple(
        _slice(match, size, variable.name)
        for match, size in zip(matches, variable.shape, strict=True)
    )


def _slice(match: re.Match[str], size: int, name: str) -> slice:
    """Return the slice of ``[]``, ``[5]``, ``[0:9]`` or ``[0:2:9]``, ends included."""
    first, second, third = match.groups()
    if first is None:
        return slice(0, size, 1)
    start, step = int(first), 1
    last = int(second or first)
    if third is not None:
        # An end that is left out is that of the dimension.
        step, last = int(second or 1), int(third or size - 1)
    if step < 1 or start > last or last >= size:
        raise Refused(
            400, f"[{start}:{step}:{last}] lies beyond the {size} values of {name}"
        )
    return slice(start, last + 1, step)
