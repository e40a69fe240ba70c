"""How much the cells of two axes overlap: the one-dimensional parts of the overlap of rectangular grids."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import sparse

Array = NDArray[Any]


def overlaps(source_edges: Array, target_edges: Array) -> sparse.csr_array:
    """Return the lengths that the cells of two axes have in common.

    Parameters
    ----------
    source_edges : ndarray, shape (n + 1,)
        Edges of cells that follow each other, in either direction.
    target_edges : ndarray, shape (m + 1,)
        Edges in the same units.

    Returns
    -------
    sparse array, shape (m, n)
        In these units, float64. The sum of a column is the length of the source's cell, where the target
        covers all of it.
    """
    source, target = (edges if edges[-1] >= edges[0] else edges[::-1] for edges in (source_edges, target_edges))
    low, high = np.maximum(source[0], target[0]), np.minimum(source[-1], target[-1])
    # All edges together cut the axis into stretches, each of which lies in one cell of either.
    cuts = np.unique(np.concatenate([source, target]))
    cuts = cuts[(cuts >= low) & (cuts <= high)]
    n, m = source.size - 1, target.size - 1
    if cuts.size < 2:
        return sparse.csr_array((m, n))
    inner = (cuts[1:] + cuts[:-1]) / 2
    columns = np.clip(np.searchsorted(source, inner) - 1, 0, n - 1)
    rows = np.clip(np.searchsorted(target, inner) - 1, 0, m - 1)
    if source is not source_edges:
        columns = n - 1 - columns
    if target is not target_edges:
        rows = m - 1 - rows
    return sparse.csr_array((np.diff(cuts), (rows, columns)), shape=(m, n))


def overlaps_round(source_edges: Array, target_edges: Array, period: float = 360.0) -> sparse.csr_array:
    """Return the lengths that the cells of two axes have in common that go round, such as longitudes.

    Parameters and result are those of `overlaps`; edges a whole number of periods apart are the same.
    """
    low = min(source_edges[0], source_edges[-1]), min(target_edges[0], target_edges[-1])
    nearest = np.round((low[1] - low[0]) / period)
    total = overlaps(source_edges + nearest * period, target_edges)
    for turn in (-1, 1):
        total = total + overlaps(source_edges + (nearest + turn) * period, target_edges)
    return sparse.csr_array(total)
