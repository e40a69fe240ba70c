"""Weighted means, variances and covariance of pairs of values, in parts that merge."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.kernels.moments import shares, vanishes
from rhodolite.kernels.weighted_sums import Weights, weighted_sums

Array = NDArray[Any]
MEANS = ("difference", "absolute", "square", "first", "second")
PRODUCTS = ("first_squares", "second_squares", "products")


@dataclass(frozen=True)
class PairMoments:
    """What is known of pairs of values.

    Attributes
    ----------
    weight : ndarray of float64
        Sum of the weights of pairs that are both there.
    means : ndarray of float64, shape (5, *cells)
        Of the difference, its size and its square, of the first and of the second; 0 where there is
        no pair.
    products : ndarray of float64, shape (3, *cells)
        Weighted sums of products of deviations from the means: of the first, of the second, and of
        both.
    """

    weight: Array
    means: Array
    products: Array

    @classmethod
    def empty(cls, shape: tuple[int, ...]) -> PairMoments:
        """Return the moments of no pairs, for cells of a shape."""
        return cls(
            np.zeros(shape),
            np.zeros((len(MEANS), *shape)),
            np.zeros((len(PRODUCTS), *shape)),
        )

    @classmethod
    def of(
        cls, first: Array, second: Array, weights: Weights, axes: tuple[int, ...]
    ) -> PairMoments:
        """Gather pairs of values over some axes.

        Parameters
        ----------
        first, second : ndarray of float, any shape
            NaN marks missing values; pairs with one are left out.
        weights : mapping
            As of `weighted_sums`.
        axes : tuple of int
            Axes to gather over.
        """
        first, second = (part.astype(np.float64) for part in (first, second))
        gone = np.isnan(first) | np.isnan(second)
        first[gone] = second[gone] = np.nan
        difference = first - second
        parts = (difference, np.abs(difference), difference**2, first, second)
        sums = [weighted_sums(part, weights, axes) for part in parts]
        weight = sums[0][1]
        means = np.stack([_ratio(total, weight) for total, _ in sums])
        x, y = (
            part - np.expand_dims(mean, axes)
            for part, mean in ((first, means[3]), (second, means[4]))
        )
        products = [
            weighted_sums(part, weights, axes)[0] for part in (x * x, y * y, x * y)
        ]
        return cls(weight, means, np.stack(products))

    def merged(self, other: PairMoments) -> PairMoments:
        """Return what is known of the pairs of both (Chan, Golub and LeVeque 1983)."""
        share, between = shares(self.weight, other.weight)
        apart = other.means - self.means
        x, y = apart[3], apart[4]
        return PairMoments(
            self.weight + other.weight,
            self.means + share * apart,
            self.products + other.products + between * np.stack([x * x, y * y, x * y]),
        )

    def part(self, region: tuple[slice, ...]) -> PairMoments:
        """Return what is known at some cells."""
        every = (slice(None), *region)
        return PairMoments(self.weight[region], self.means[every], self.products[every])

    def variances(self) -> tuple[Array, Array]:
        """Return the variances of the first and the second, 0 where no more than rounding is left
        of equal values."""
        results = []
        for squares, mean in zip(self.products[:2], self.means[3:], strict=True):
            real = ~vanishes(squares, self.weight, mean)
            results.append(np.where(real, _ratio(squares, self.weight), 0.0))
        return results[0], results[1]

    def correlation(self) -> Array:
        """Return Pearson's correlation, NaN where all values of one are equal."""
        spread = np.sqrt(np.multiply(*self.variances()))
        covariance = _ratio(self.products[2], self.weight)
        none = np.full(spread.shape, np.nan)
        return np.asarray(np.divide(covariance, spread, out=none, where=spread > 0))


def _ratio(total: Array, weight: Array) -> Array:
    return np.asarray(
        np.divide(total, weight, out=np.zeros(np.shape(total)), where=weight > 0)
    )
