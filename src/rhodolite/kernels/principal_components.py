"""Principal components of a field, of two fields together, and their rotation."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.moments import first_values

Array = NDArray[Any]
_RANK = 1e-12
"""Of the largest eigenvalue, below which others are rounding."""
_EQUAL = 1e-9
_SWEEPS, _SETTLED = 200, 1e-10


class Components(NamedTuple):
    """The leading components.

    Attributes
    ----------
    series : ndarray of float64, shape (n, k)
        Of unit variance, uncorrelated; NaN where the field has no more components.
    share : ndarray of float64, shape (k,)
        Of the variance, from 0 to 1.
    """

    series: Array
    share: Array


def centre_cells(values: Array, fewest: float) -> Array:
    """Return departures of each cell from its mean, 0 where they are missing, and NaN at cells that
    have too few values.

    Parameters
    ----------
    values : ndarray of float64, shape (n, *cells)
        NaN where missing.
    fewest : float
        Share of the values that a cell has to have.

    Examples
    --------
    >>> centre_cells(np.array([[1.0, np.nan], [3.0, 1.0]]), 0.6).tolist()
    [[-1.0, nan], [1.0, nan]]
    """
    present = ~np.isnan(values)
    count = present.sum(axis=0)
    departures = np.where(present, values - first_values(values), 0.0)
    mean = departures.sum(axis=0) / np.maximum(count, 1)
    centred = np.where(present, departures - mean, 0.0)
    enough = count >= max(fewest * len(values) - 1e-9, 2)
    return np.where(enough, centred, np.nan)


def time_products(departures: Array, weights: Array) -> Array:
    """Return the products of all pairs of times, summed over cells.

    Parameters
    ----------
    departures : ndarray of float64, shape (n, m)
        NaN at cells that are left out.
    weights : ndarray of float64, shape (m,)

    Returns
    -------
    ndarray of float64, shape (n, n)
    """
    usable = ~np.isnan(departures[0]) & (weights > 0)
    weighted = departures[:, usable] * np.sqrt(weights[usable])
    return np.asarray(weighted @ weighted.T)


def principal_components(products: Array, count: int) -> Components:
    """Return the components of a field, given the products of its times.

    Parameters
    ----------
    products : ndarray of float64, shape (n, n)
        As `time_products` gives them.
    count : int
        How many are wanted.

    Notes
    -----
    The eigenvectors of the covariance in time, which are those of the covariance in space but for
    a product with the field (von Storch and Zwiers 1999, Statistical Analysis in Climate Research,
    section 13.2.3). The largest departure of each series is positive.

    Examples
    --------
    >>> field = np.array([[1.0, 2.0], [0.0, 0.0], [-1.0, -2.0]])
    >>> parts = principal_components(time_products(field, np.ones(2)), 1)
    >>> parts.series[[0, 2], 0].round(6).tolist(), parts.share.round(6).tolist()
    ([1.0, -1.0], [1.0])
    """
    vectors, values = _leading(products, count)
    total = float(np.trace(products))
    series = np.full((len(products), count), np.nan)
    share = np.full(count, np.nan)
    size = vectors.shape[1]
    series[:, :size] = turn_up(vectors) * np.sqrt(len(products) - 1)
    share[:size] = values / total if total > 0 else np.nan
    return Components(series, share)


def _leading(products: Array, count: int) -> tuple[Array, Array]:
    """Return the eigenvectors of the largest eigenvalues that are no rounding, and these."""
    from scipy.linalg import eigh

    size = len(products)
    first = max(size - count, 0)
    values, vectors = eigh(products, subset_by_index=(first, size - 1))
    values, vectors = values[::-1], vectors[:, ::-1]
    real = values > max(_RANK * values[0], 0.0)
    return vectors[:, real], values[real]


def turn_up(series: Array) -> Array:
    """Return series with the sign by which the largest departure of each is positive.

    Parameters
    ----------
    series : ndarray of float64, shape (n, k)
    """
    sizes = np.abs(series)
    # Of departures that are equal but for rounding the first decides.
    largest = (sizes >= sizes.max(axis=0) * (1 - _EQUAL)).argmax(axis=0)
    signs = np.sign(series[largest, np.arange(series.shape[1])])
    return np.asarray(series * np.where(signs == 0, 1.0, signs))


def coupled_components(
    first: Array, second: Array, count: int
) -> tuple[Components, Components, Array]:
    """Return the components of two fields that have the largest covariance.

    Parameters
    ----------
    first, second : ndarray of float64, shape (n, n)
        The products of the times of each, as `time_products` gives them.
    count : int
        How many pairs are wanted.

    Returns
    -------
    tuple of Components, Components and ndarray
        Those of each field, whose shares are of the squared covariance of both, and the correlation
        of each pair of series.

    Notes
    -----
    Singular vectors of the covariance between the fields (Bretherton, Smith and Wallace 1992,
    Journal of Climate 5, 541-560), by way of the eigenvectors of each field in time, in which
    it is a small matrix.
    """
    roots = [_root(part) for part in (first, second)]
    left, sizes, right = np.linalg.svd(roots[0].T @ roots[1], full_matrices=False)
    total = float((sizes**2).sum())
    rank = min(count, int((sizes > _RANK * sizes[:1].max(initial=0)).sum()))
    n = len(first)
    pairs = [roots[0] @ left[:, :rank], roots[1] @ right[:rank].T]
    turned = turn_up(pairs[0])
    signs = np.where((turned * pairs[0]).sum(axis=0) < 0, -1.0, 1.0)
    share = np.full(count, np.nan)
    share[:rank] = sizes[:rank] ** 2 / total
    results = []
    for series in (turned, pairs[1] * signs):
        spread = np.sqrt((series**2).sum(axis=0) / (n - 1))
        scaled = np.full((n, count), np.nan)
        scaled[:, :rank] = series / spread
        results.append(Components(scaled, share))
    correlation = (results[0].series * results[1].series).sum(axis=0) / (n - 1)
    return results[0], results[1], correlation


def _root(products: Array) -> Array:
    """Return a matrix whose product with its own transpose is that of times."""
    values, vectors = np.linalg.eigh(products)
    real = values > _RANK * max(values[-1], 0.0)
    return np.asarray(vectors[:, real] * np.sqrt(values[real]))


def regress_on(departures: Array, series: Array) -> Array:
    """Return the change of each cell with one standard deviation of each series.

    Parameters
    ----------
    departures : ndarray of float64, shape (n, m)
        NaN at cells that are left out.
    series : ndarray of float64, shape (n, k)
        Of unit variance and no mean.

    Returns
    -------
    ndarray of float64, shape (k, m)
    """
    return np.asarray(series.T @ departures / (len(series) - 1))


def varimax(loadings: Array) -> Array:
    """Return the rotation that makes the squares of loadings as unequal as can be.

    Parameters
    ----------
    loadings : ndarray of float64, shape (m, k)

    Returns
    -------
    ndarray of float64, shape (k, k)
        Orthogonal; the rotated loadings are the product of the loadings with it.

    Notes
    -----
    Kaiser 1958, Psychometrika 23, 187-200: pairs of columns are turned, one after another, by the
    angle that is best for them; each row is brought to unit length first.

    Examples
    --------
    >>> turned = varimax(np.array([[1.0, 1.0], [1.0, -1.0]]) / np.sqrt(2))
    >>> np.abs(turned).round(6).tolist()
    [[0.707107, 0.707107], [0.707107, 0.707107]]
    """
    lengths = np.sqrt((loadings**2).sum(axis=1, keepdims=True))
    rows = np.divide(loadings, lengths, out=np.zeros_like(loadings), where=lengths > 0)
    columns = np.ascontiguousarray(rows.T)
    rotation = np.eye(len(columns))
    for _ in range(_SWEEPS):
        largest = 0.0
        for i in range(len(columns)):
            for j in range(i + 1, len(columns)):
                angle = _best_angle(columns[i], columns[j])
                largest = max(largest, abs(angle))
                _turn(columns, i, j, angle)
                _turn(rotation.T, i, j, angle)
        if largest < _SETTLED:
            break
    return rotation


def _best_angle(x: Array, y: Array) -> float:
    """Return by how much two columns are turned for the most unequal squares."""
    u, v = x**2 - y**2, 2 * x * y
    a, b = u.sum(), v.sum()
    top = 2 * (u * v).sum() - 2 * a * b / u.size
    bottom = (u**2 - v**2).sum() - (a**2 - b**2) / u.size
    return float(np.arctan2(top, bottom) / 4)


def _turn(columns: Array, i: int, j: int, angle: float) -> None:
    """Turn two of the rows of a matrix in their plane."""
    cosine, sine = np.cos(angle), np.sin(angle)
    first, second = columns[i].copy(), columns[j].copy()
    columns[i] = cosine * first + sine * second
    columns[j] = cosine * second - sine * first
