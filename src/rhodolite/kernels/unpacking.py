"""What makes values of stored numbers, as kernels see it."""

from __future__ import annotations

from typing import Any, Protocol

from numpy.typing import NDArray

Array = NDArray[Any]


class Unpacking(Protocol):
    """A point-wise function that makes values of stored numbers. Has to be picklable."""

    def __call__(self, numbers: Array, /) -> Array:
        """Return the values, NaN where they are missing."""

    @property
    def keeps_order(self) -> bool:
        """Whether a larger number stands for a value that is no smaller, missing ones aside."""

    def find_missing(self, numbers: Array, /) -> Array | None:
        """Return which of some numbers stand for missing values; None where none does."""

    def scale_of(self, numbers: Array, /) -> float | None:
        """Return by how much values differ whose numbers differ by 1, as far as rounding in double
        precision goes; None where that is not so, or one of these is missing."""
