"""How well an ensemble says what was observed: its ranks, its spread and its probabilities."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.moments import sum_rows

Array = NDArray[Any]


class EnsembleScores(NamedTuple):
    """Scores over all times at which members and observation are there, shape (*cells).

    Attributes
    ----------
    crps : ndarray of float64
        Continuous ranked probability score; 0 is perfect, and of one member it is the mean absolute
        error.
    spread : ndarray of float64
        Root of the mean variance of the members.
    error : ndarray of float64
        Root-mean-square error of the mean of the members.
    ranks : ndarray of float64, shape (members + 1, *cells)
        How often so many members lay below the observation; equal ones count half on either side.
    """

    crps: Array
    spread: Array
    error: Array
    ranks: Array


def score_ensemble(
    members: Array, observed: Array, lengths: Array | None = None
) -> EnsembleScores:
    """Return the scores of an ensemble.

    Parameters
    ----------
    members : ndarray of float64, shape (m, n, *cells)
        Of n times; NaN where missing.
    observed : ndarray of float64, shape (n, *cells)
    lengths : ndarray of float64, shape (n,), optional
        What each time counts in means; all alike unless given. Ranks are numbers of times.

    Notes
    -----
    The score is mean(|x - y|) - mean(|x - x'|) / 2 over all members and pairs of members (Gneiting
    and Raftery 2007, Journal of the American Statistical Association 102, equation 21); ranks after
    Hamill 2001 (Monthly Weather Review 129); spread and error after Fortin and others 2014 (Journal
    of Hydrometeorology 15).

    Examples
    --------
    >>> scores = score_ensemble(np.array([[1.0], [3.0]]), np.array([2.0]))
    >>> float(scores.crps), float(scores.error), scores.ranks.tolist()
    (0.5, 0.0, [0.0, 1.0, 0.0])
    """
    count = len(members)
    known = ~np.isnan(observed) & ~np.isnan(members).any(axis=0)
    weights = known * 1.0
    if lengths is not None:
        weights *= lengths.reshape(-1, *(1,) * (observed.ndim - 1))
    distance = sum_rows(np.abs(members - observed))
    ordered = np.sort(members, axis=0)
    factors = 2 * np.arange(1, count + 1) - count - 1
    columns = factors.reshape(-1, *(1,) * observed.ndim)
    pairs = sum_rows(columns * ordered)
    score = distance / count - pairs / count**2
    mean = _mean_of_members(members)
    variance = sum_rows((members - mean) ** 2)
    return EnsembleScores(
        _over_time(score, weights),
        np.sqrt(_over_time(variance / max(count - 1, 1), weights)),
        np.sqrt(_over_time((mean - observed) ** 2, weights)),
        _ranks(members, observed, known),
    )


def _mean_of_members(members: Array) -> Array:
    total = sum_rows(members - members[0])
    return np.asarray(members[0] + total / len(members))


def _over_time(values: Array, weights: Array) -> Array:
    """Return weighted means; values without a weight may be missing."""
    total = sum_rows(np.where(weights > 0, values * weights, 0.0))
    weight = weights.sum(axis=0)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(weight > 0, total / weight, np.nan)


def _ranks(members: Array, observed: Array, known: Array) -> Array:
    """Return how often each number of members lay below the observation."""
    lower = (members < observed).sum(axis=0)
    equal = (members == observed).sum(axis=0)
    ranks = np.zeros((len(members) + 1, *observed.shape[1:]))
    for rank in range(len(ranks)):
        inside = (lower <= rank) & (rank <= lower + equal) & known
        ranks[rank] = np.where(inside, 1.0 / (equal + 1), 0.0).sum(axis=0)
    return ranks
