"""Means of chosen times against those of others, and whether they differ by more than chance."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.distributions import t_below
from rhodolite.kernels.grouped_statistics import Spread
from rhodolite.kernels.moments import first_values

Array = NDArray[Any]
_EQUAL = 1e-9
"""Of a difference, up to which another is as large but for rounding."""


class Groups(NamedTuple):
    """Numbers, means and variances of two groups, each of shape (2, *cells): the chosen first."""

    number: Array
    mean: Array
    variance: Array


def compare_groups(values: Array, chosen: Array, others: Array) -> Groups:
    """Return what there is to know of two groups at each cell.

    Parameters
    ----------
    values : ndarray of float, shape (n, *cells)
        NaN where missing.
    chosen, others : ndarray of bool, shape (n, *cells), or what broadcasts to it

    Examples
    --------
    >>> chosen = np.array([True, True, False])
    >>> groups = compare_groups(np.array([1.0, 3.0, 5.0]), chosen, ~chosen)
    >>> groups.mean.tolist(), groups.number.tolist()
    ([2.0, 5.0], [2, 1])
    """
    rows = [_of_group(values, inside) for inside in (chosen, others)]
    number = np.repeat([0, 1], [len(group) for group in rows])
    spread = Spread()
    gathered = spread.gather(np.concatenate(rows), number, 2, None)
    results = spread.finish(gathered)
    return Groups(gathered.count, results["mean"], results["variance"])


def _of_group(values: Array, inside: Array) -> Array:
    """Return the values of a group; only its times where they are the same at all cells."""
    if inside.size == len(values):
        return values[inside.reshape(-1)]
    return np.where(inside, values, np.nan)


def welch_test(groups: Groups) -> Array:
    """Return the p-value of the difference of two means whose variances need not be equal.

    Parameters
    ----------
    groups : Groups

    Returns
    -------
    ndarray of float64, shape (*cells)
        NaN where a group has fewer than two values; 1 where all values are equal.

    Notes
    -----
    Welch 1947, Biometrika 34, 28-35; two-sided.

    Examples
    --------
    >>> values = np.array([1.0, 2.0, 3.0, 4.0, 6.0, 8.0])
    >>> chosen = values < 3.5
    >>> round(float(welch_test(compare_groups(values, chosen, ~chosen))), 4)
    0.0548
    """
    count, mean, variance = groups
    enough = (count >= 2).all(axis=0)
    difference = mean[0] - mean[1]
    with np.errstate(divide="ignore", invalid="ignore"):
        shares = variance / count
        error = shares.sum(axis=0)
        freedom = error**2 / (shares**2 / (count - 1)).sum(axis=0)
        t = np.abs(difference) / np.sqrt(error)
        pvalue = 2 * t_below(freedom, -t)
    same = (error == 0) & (difference == 0)
    certain = (error == 0) & (difference != 0)
    pvalue = np.where(same, 1.0, np.where(certain, 0.0, pvalue))
    return np.where(enough, pvalue, np.nan)


def permutation_test(values: Array, choices: Array) -> Array:
    """Return the p-value of the difference of two means, by how often other choices of as many
    times differ as much.

    Parameters
    ----------
    values : ndarray of float, shape (m, *cells)
        Of the times of both groups; NaN where missing.
    choices : ndarray of float64, shape (k, m)
        1 for the chosen times and 0 for the others, as they are and in random choices of as many.

    Returns
    -------
    ndarray of float64, shape (*cells)
        NaN where a group has no value.

    Notes
    -----
    (b + 1) / (k + 1) of k random choices, b of which differ as much (Phipson and Smyth 2010,
    Statistical Applications in Genetics and Molecular Biology 9, 39).

    Examples
    --------
    >>> choices = np.array([[1.0, 0.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, 1.0]])
    >>> float(permutation_test(np.array([9.0, 1.0, 2.0]), choices).round(3))
    0.333
    """
    rows = values.reshape(len(values), -1)
    present = ~np.isnan(rows)
    # Less a value of each cell, so that large means lose no digits.
    centred = np.where(present, rows - first_values(rows), 0.0)
    with np.errstate(divide="ignore", invalid="ignore"):
        inside, outside = (
            (weights @ centred) / (weights @ present)
            for weights in (choices, 1.0 - choices)
        )
    difference = np.abs(inside - outside)
    actual, others = difference[0], difference[1:]
    as_much = (others >= actual * (1 - _EQUAL)).sum(axis=0)
    usable = (~np.isnan(others)).sum(axis=0)
    pvalue = np.where(np.isnan(actual), np.nan, (as_much + 1) / (usable + 1))
    return np.asarray(pvalue.reshape(values.shape[1:]))


def shuffle_choices(chosen: Array, count: int, seed: int) -> Array:
    """Return a choice of times and random ones of as many, the same for the same seed.

    Parameters
    ----------
    chosen : ndarray of bool, shape (m,)
    count, seed : int

    Returns
    -------
    ndarray of float64, shape (count + 1, m)

    Examples
    --------
    >>> shuffle_choices(np.array([True, False, False]), 2, 0).sum(axis=1).tolist()
    [1.0, 1.0, 1.0]
    """
    random = np.random.default_rng(seed)
    weights = chosen.astype(np.float64)
    return np.stack([weights, *(random.permutation(weights) for _ in range(count))])
