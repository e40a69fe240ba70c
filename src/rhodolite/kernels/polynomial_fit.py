"""Polynomials through series by least squares, by way of polynomials that are orthogonal over the
times present."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


@dataclass(frozen=True)
class PolynomialFit:
    """A polynomial at each cell, as a sum of orthogonal ones.

    Attributes
    ----------
    terms, norms : ndarray of float64, shape (order + 1, *cells)
        Factor of each orthogonal polynomial, and the sum of its squares over the times present.
    centres, ratios : ndarray of float64, shape (order, *cells)
        P(k+1) = (x - centre(k)) P(k) - ratio(k) P(k-1).
    residuals : ndarray of float64, shape (n, *cells)
        NaN where the value is missing, and everywhere in cells with fewer values than the fit has
        terms.
    count : ndarray of int, shape (*cells)
        Values present.
    """

    terms: Array
    norms: Array
    centres: Array
    ratios: Array
    residuals: Array
    count: Array

    @property
    def freedom(self) -> Array:
        """Degrees of freedom of the residuals."""
        return self.count - len(self.terms)

    @property
    def squares(self) -> Array:
        """Sum of squared residuals."""
        return np.asarray(np.nansum(self.residuals**2, axis=0))

    def slope(self) -> tuple[Array, Array]:
        """Return the slope at the mean of the times present, and its squared error where residuals
        have variance 1."""
        slope, error = self.terms[1], 1 / self.norms[1]
        if len(self.terms) > 2:
            lever = self.centres[0] - self.centres[1]
            slope, error = (
                slope + lever * self.terms[2],
                error + lever**2 / self.norms[2],
            )
        return slope, error

    def acceleration(self) -> tuple[Array, Array]:
        """Return how fast the slope of a parabola changes, and its squared error where residuals
        have variance 1."""
        return 2 * self.terms[2], 4 / self.norms[2]


def fit_polynomial(x: Array, block: Array, order: int) -> PolynomialFit:
    """Fit a polynomial at each cell.

    Parameters
    ----------
    x : ndarray of float64, shape (n,)
    block : ndarray of float, shape (n, *cells)
        Values; NaN marks missing ones.
    order : int

    Notes
    -----
    The three-term recurrence of Forsythe 1957, Journal of the SIAM 5, 74-88, with weight 0 for
    missing values, which avoids the loss of digits of the normal equations.

    Examples
    --------
    >>> x = np.arange(5.0)
    >>> fit = fit_polynomial(x, (x**2).reshape(-1, 1), 2)
    >>> fit.terms.round(9).ravel().tolist()
    [6.0, 4.0, 1.0]
    """
    present = ~np.isnan(block)
    count = present.sum(axis=0)
    column = x.reshape(-1, *(1,) * (block.ndim - 1))
    left = np.where(present, block, 0.0).astype(np.float64)
    before, current = np.zeros_like(left), present.astype(np.float64)
    terms, norms, centres, ratios = [], [], [], []
    for step in range(order + 1):
        norm = np.einsum("t...,t...->...", current, current)
        safe = np.where(norm > 0, norm, 1.0)
        term = np.einsum("t...,t...->...", current, left) / safe
        left -= term * current
        # What rounding left of this polynomial is taken out as well.
        more = np.einsum("t...,t...->...", current, left) / safe
        left -= more * current
        terms.append(term + more)
        norms.append(norm)
        if step < order:
            centre = (
                np.einsum(
                    "t...,t...,t...->...",
                    column * np.ones_like(current),
                    current,
                    current,
                )
                / safe
            )
            ratio = (
                norm / np.where(norms[-2] > 0, norms[-2], 1.0)
                if step
                else np.zeros_like(norm)
            )
            centres.append(centre)
            ratios.append(ratio)
            before, current = (
                current,
                ((column - centre) * current - ratio * before) * present,
            )
    enough = count > order
    residuals = np.where(present & enough, left, np.nan)
    coefficients = [np.where(enough, term, np.nan) for term in terms]
    usable_norms = [np.where(enough & (norm > 0), norm, np.nan) for norm in norms]
    return PolynomialFit(
        np.array(coefficients),
        np.array(usable_norms),
        np.array(centres),
        np.array(ratios),
        residuals,
        count,
    )
