"""Which of many tests are significant, one by one or with the false discovery rate controlled."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any, Self

import numpy as np

from rhodolite.arrays import (
    Accumulator,
    Array,
    InMemory,
    LazyArray,
    Reduction,
    Region,
)
from rhodolite.model.variable import Storage, Variable

FALSE_DISCOVERY_SOURCE = (
    "Wilks 2016, Bulletin of the American Meteorological Society 97, 2263-2273"
)


@dataclass
class FalseDiscoveryLimit(Accumulator):
    """The largest p-value that is significant when the false discovery rate is controlled.

    Notes
    -----
    The largest p(i) of m in order with p(i) <= alpha i / m (Benjamini and Hochberg 1995; for maps
    Wilks 2016, Bulletin of the American Meteorological Society 97, 2263-2273). Below 0 where there
    is none.
    """

    alpha: float
    held: list[Array] = field(default_factory=list)

    def start(self) -> Self:
        return replace(self, held=[])

    def add(self, block: Array, region: Region) -> None:  # noqa: ARG002
        self.held = [block[~np.isnan(block)].ravel()]

    def merge(self, other: Self) -> None:
        self.held += other.held

    def finish(self) -> dict[str, Array]:
        limit = discovery_limit(np.concatenate([*self.held, np.empty(0)]), self.alpha)
        return {"limit": np.asarray(limit)}


def discovery_limit(pvalues: Array, alpha: float) -> float:
    """Return below which p-values are significant when the false discovery rate is controlled; see
    `FalseDiscoveryLimit`.

    Parameters
    ----------
    pvalues : ndarray of float64, shape (m,)
        None of them missing.
    alpha : float
    """
    ordered = np.sort(pvalues)
    passed = np.flatnonzero(
        ordered <= alpha * np.arange(1, ordered.size + 1) / ordered.size
    )
    return float(np.nextafter(ordered[passed[-1]], 2.0)) if passed.size else -1.0


class Significant(LazyArray):
    """1 where a p-value lies below a limit, 0 where not, and -1 where it is missing."""

    def __init__(self, pvalues: LazyArray, limit: LazyArray) -> None:
        self._pvalues, self._limit = pvalues, limit
        self.shape, self.chunks = pvalues.shape, pvalues.chunks
        self.dtype = np.dtype(np.int8)

    def sources(self) -> tuple[LazyArray, ...]:
        return self._pvalues, self._limit

    def read(self, region: Region) -> Array:
        pvalues, limit = self._pvalues.read(region), self._limit.read(())
        return np.where(np.isnan(pvalues), -1, pvalues < limit).astype(np.int8)


def flag_significant(
    name: str,
    words: str,
    pvalue: Variable,
    alpha: float,
    *,
    false_discovery: bool,
    attributes: Mapping[str, Any],
) -> Variable:
    """Return a variable of 1 where a test is significant, 0 where not, and a mark where it is
    missing.

    Parameters
    ----------
    name, words : str
        Of the variable: `whether the trend of tas is significant`.
    pvalue : Variable
    alpha : float
        Significance level.
    false_discovery : bool
        Whether that is the share of false ones among those that are called significant.
    attributes : mapping
        Further ones.
    """
    words += f" at {alpha:g}"
    limit: LazyArray = InMemory(np.float64(alpha))
    if false_discovery:
        words += " of false discoveries (Benjamini and Hochberg 1995)"
        limits = Reduction(pvalue.data, FalseDiscoveryLimit(alpha))
        limit = limits.output("limit", ())
    about = {
        "long_name": words,
        "flag_values": np.array([0, 1], np.int8),
        "flag_meanings": "not_significant significant",
        **attributes,
    }
    flags = Significant(pvalue.data, limit)
    return Variable(name, pvalue.dimensions, flags, about, Storage(fill_value=-1), -1)
