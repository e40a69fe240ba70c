"""Weighted statistics of many cells at once, in parts that can be merged."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.moments import moments, shares, vanishes
from rhodolite.kernels.unpacking import Unpacking
from rhodolite.kernels.whole_number_sums import scale_of_small, sum_of_differences

Array = NDArray[Any]
Parts = dict[str, Array]
_SPREADS = ("std", "variance")
_JOINED = {
    "weight": np.add,
    "count": np.add,
    "total": np.add,
    "low": np.fmin,
    "high": np.fmax,
}


def gather(values: Array, weights: Array, kind: str) -> Parts:
    """Return what a statistic is made of.

    Parameters
    ----------
    values : ndarray of float, shape (k, n)
        NaN marks missing values.
    weights : ndarray of float64, shape (n,)
        Of the cells; all above zero.
    kind : {"mean", "sum", "count", "min", "max", "range", "std", "variance"}

    Returns
    -------
    dict of str to ndarray of float64, shape (k,)
        `weight` and `count` of what is there, and what the kind needs besides.
    """
    gaps = np.isnan(values)
    whole = not gaps.any()
    if whole:
        parts = _parts_of_all(weights, len(values))
    else:
        parts = {
            "weight": _weighted_sum(~gaps, weights),
            "count": (~gaps).sum(axis=1, dtype=np.float64),
        }
    if kind in ("min", "max", "range"):
        parts["low"], parts["high"] = (
            f.reduce(values, axis=1, initial=np.nan).astype(np.float64)
            for f in (np.fmin, np.fmax)
        )
    elif kind != "count":
        parts["total"] = _weighted_sum(
            values if whole else np.where(gaps, 0, values), weights
        )
        if kind in _SPREADS:
            _, _, parts["mean"], parts["squares"] = moments(values.T, weights)
    return parts


def gather_stored(
    numbers: Array, unpack: Unpacking | None, weights: Array, kind: str
) -> Parts:
    """Return what `gather` does, of stored numbers; sums of small integers of one weight are made
    among these, which is exact.

    Parameters
    ----------
    numbers : ndarray, shape (k, n)
    unpack : Unpacking, optional
        What makes values of them; None where they are the values.
    weights, kind
        As for `gather`.
    """
    if kind in ("mean", "sum") and (weights == weights[:1]).all():
        scale = scale_of_small(numbers.T, unpack)
        if scale is not None and unpack is not None:
            total = sum_of_differences(numbers.T) * scale
            total += weights.size * unpack(numbers[:, 0])
            total *= weights[0]
            return {**_parts_of_all(weights, len(numbers)), "total": total}
    return gather(numbers if unpack is None else unpack(numbers), weights, kind)


def _parts_of_all(weights: Array, rows: int) -> Parts:
    """Return weight and count where nothing is missing: one number each, which takes no room."""
    sums = {"weight": float(weights.sum()), "count": float(weights.size)}
    return {name: np.broadcast_to(np.float64(n), rows) for name, n in sums.items()}


def _weighted_sum(values: Array, weights: Array) -> Array:
    """Return the sum over the second axis in float64."""
    if (weights == weights[:1]).all():
        total = np.add.reduce(values, axis=1, dtype=np.float64)
        total *= weights[0] if weights.size else 0.0
        return np.asarray(total)
    return np.asarray(np.einsum("nk,n->k", values.T, weights, dtype=np.float64))


def merge(parts: Parts, other: Parts) -> None:
    """Take in the parts of another set of cells, as if `gather` had taken in all at once.

    Parameters
    ----------
    parts, other : dict of str to ndarray of float64
        What `gather` returned for the same kind, all of one shape; the first are changed.
    """
    if "squares" in parts:
        share, between = shares(parts["weight"], other["weight"])
        shift = other["mean"] - parts["mean"]
        parts["mean"] += share * shift
        parts["squares"] += other["squares"] + shift**2 * between
    for name, join in _JOINED.items():
        if name in parts:
            join(parts[name], other[name], out=parts[name])


def finish(parts: Parts, kind: str) -> Array:
    """Return the statistic; NaN where no value is there, but for counts.

    Parameters
    ----------
    parts : dict of str to ndarray of float64
        Of `gather` or `merge`.
    kind : str
        As for `gather`.

    Returns
    -------
    ndarray of float64, of the shape of the parts

    Notes
    -----
    With weights w and deviations d the variance is sum(w d^2) / (sum(w) (n - 1) / n).

    Examples
    --------
    >>> parts = gather(np.array([[1.0, 4.0]]), np.array([1.0, 2.0]), "mean")
    >>> finish(parts, "mean").tolist()
    [3.0]
    """
    count = parts["count"]
    if kind == "count":
        return count
    if kind == "sum":
        return np.where(count > 0, parts["total"], np.nan)
    if kind == "mean":
        return _ratio(parts["total"], parts["weight"])
    if kind in ("min", "max", "range"):
        return {
            "min": parts["low"],
            "max": parts["high"],
            "range": parts["high"] - parts["low"],
        }[kind]
    squares = np.where(
        vanishes(parts["squares"], parts["weight"], parts["mean"]),
        0.0,
        parts["squares"],
    )
    variance = _ratio(squares, parts["weight"] * _ratio(count - 1, count))
    return np.sqrt(variance) if kind == "std" else variance


def weighted_percentile(values: Array, weights: Array, share: float) -> Array:
    """Return the value below which a share of the weight lies, missing ones left out.

    Parameters
    ----------
    values : ndarray of float, shape (k, n)
    weights : ndarray of float64, shape (n,)
    share : float
        From 0 to 1.

    Returns
    -------
    ndarray of float64, shape (k,)

    Notes
    -----
    Values stand at the middles of their weights, the first at 0 and the last at 1, and are joined
    by straight lines. With equal weights that is definition 7 of Hyndman and Fan 1996, The American
    Statistician 50, 361-365. Equal values share their weight evenly, so that their order does not
    matter.

    Examples
    --------
    >>> weighted_percentile(np.array([[1.0, 4.0, 9.0]]), np.array([1.0, 1.0, 1.0]), 0.5).tolist()
    [4.0]
    """
    order = np.argsort(values, axis=1)
    ordered = np.take_along_axis(values, order, axis=1).astype(np.float64)
    there = ~np.isnan(ordered)
    along = _shared_by_ties(ordered, np.where(there, weights[order], 0.0))
    middles = np.cumsum(along, axis=1) - along / 2
    last = np.maximum(there.sum(axis=1) - 1, 0)
    ends = np.take_along_axis(
        middles, np.stack([np.zeros_like(last), last], axis=1), axis=1
    )
    wanted = ends[:, 0] + share * (ends[:, 1] - ends[:, 0])
    above = np.minimum(((middles < wanted[:, None]) & there).sum(axis=1), last)
    below = np.maximum(above - 1, 0)
    (x0, x1), (y0, y1) = (
        [np.take_along_axis(of, at[:, None], axis=1)[:, 0] for at in (below, above)]
        for of in (middles, ordered)
    )
    part = np.clip(
        np.divide(wanted - x0, x1 - x0, out=np.zeros(len(x0)), where=x1 > x0), 0.0, 1.0
    )
    return np.asarray(y0 + part * (y1 - y0))


def _shared_by_ties(ordered: Array, weights: Array) -> Array:
    """Return weights in which those of equal values, which follow each other in each row, are the
    mean of theirs."""
    new = np.ones(ordered.shape, dtype=bool)
    new[:, 1:] = ordered[:, 1:] != ordered[:, :-1]
    if new.all():
        return weights
    groups = np.cumsum(new.reshape(-1)) - 1
    sums, counts = np.bincount(groups, weights.reshape(-1)), np.bincount(groups)
    return np.asarray((sums / counts)[groups].reshape(weights.shape))


def _ratio(above: Array, below: Array) -> Array:
    return np.asarray(
        np.divide(above, below, out=np.full(np.shape(above), np.nan), where=below > 0)
    )
