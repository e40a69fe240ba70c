"""Lists of numbers of several lengths, put into rows as long as the longest."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from rhodolite.arrays import Array, InMemory
from rhodolite.formats.cf.decode import Decoding
from rhodolite.limits import check_held
from rhodolite.model.cf.vocabulary import STORAGE_ATTRIBUTES
from rhodolite.model.variable import Variable

_MOST_LISTS = 1_000_000
"""More are not read, since all have to be to know how long the longest is."""
_EXACT = 2**53
"""Integers up to this are held by floating-point numbers."""


def read_lists(
    what: str, name: str, stored: Any, attributes: Mapping[str, Any]
) -> Variable | str:
    """Return lists along a dimension of their own, missing beyond the end of each, or why not.

    Parameters
    ----------
    what : str
        Names file and variable.
    name : str
    stored : netCDF4.Variable
        Of a type of variable length.
    attributes : mapping
        As stored.

    Returns
    -------
    Variable or str
        Its values are of double precision.
    """
    kind = np.dtype(stored.datatype.dtype)
    if kind.kind not in "fiu":
        return "lists that hold no numbers"
    if stored.size > _MOST_LISTS:
        return f"{stored.size:,} lists of several lengths"
    lists = np.asarray(stored[...], dtype=object).reshape(-1)
    lengths = np.array([np.size(part) for part in lists], dtype=np.intp)
    longest = int(lengths.max(initial=0))
    if not longest:
        return "lists of several lengths, and all are empty"
    check_held(lists.size * longest * 8, what)
    raw = np.concatenate([np.zeros(0, kind), *(np.ravel(part) for part in lists)])
    if kind.kind in "iu" and (raw > _EXACT).any():
        return "lists of integers beyond 2^53"
    rows = np.full((lists.size, longest), np.nan)
    rows[np.arange(longest) < lengths[:, None]] = _values(raw.astype(kind), attributes)
    described = {
        key: value for key, value in attributes.items() if key not in STORAGE_ATTRIBUTES
    }
    return Variable(
        name,
        (*stored.dimensions, f"{name}_entry"),
        InMemory(rows.reshape(*stored.shape, longest)),
        described,
    )


def _values(raw: Array, attributes: Mapping[str, Any]) -> Array:
    """Return what stored numbers stand for, as floating-point numbers."""
    decoding = Decoding.of(raw.dtype, attributes)
    values = decoding.decode(raw)
    if values.dtype.kind == "f":
        return values.astype(np.float64)
    return np.where(np.isin(values, decoding.missing), np.nan, values)
