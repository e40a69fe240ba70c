"""What programs over blocks are made of: leaves, constants, functions and comparisons."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from rhodolite.arrays import Array
from rhodolite.kernels.thresholds import in_precision

Program = Callable[[list[Array]], Array]


COMPARISONS: dict[str, Callable[[Array, Array], Array]] = {
    "<": np.less,
    "<=": np.less_equal,
    ">": np.greater,
    ">=": np.greater_equal,
    "==": np.equal,
    "!=": np.not_equal,
}
OF_NUMBERS: dict[str, Callable[..., Array]] = {
    "exp": np.exp,
    "log": np.log,
    "log10": np.log10,
    "log2": np.log2,
    "log1p": np.log1p,
    "expm1": np.expm1,
    "sinh": np.sinh,
    "cosh": np.cosh,
    "tanh": np.tanh,
    "arcsin": np.arcsin,
    "arccos": np.arccos,
    "arctan": np.arctan,
    "sin": np.sin,
    "cos": np.cos,
    "tan": np.tan,
}
ANGLES_OF = ("arcsin", "arccos", "arctan")
"""Functions of numbers that give angles."""
KEEPING_UNITS: dict[str, Callable[..., Array]] = {
    "negative": np.negative,
    "abs": np.abs,
    "floor": np.floor,
    "ceil": np.ceil,
    "round": np.rint,
}


@dataclass(frozen=True)
class Leaf:
    at: int

    def __call__(self, blocks: list[Array]) -> Array:
        return blocks[self.at]


@dataclass(frozen=True)
class Constant:
    value: float

    def __call__(self, blocks: list[Array]) -> Array:  # noqa: ARG002
        return np.float64(self.value)  # type: ignore[return-value]


@dataclass(frozen=True)
class Apply:
    function: Callable[..., Array]
    arguments: tuple[Program, ...]

    def __call__(self, blocks: list[Array]) -> Array:
        with np.errstate(all="ignore"):
            return self.function(*(argument(blocks) for argument in self.arguments))


@dataclass(frozen=True)
class Compare:
    sign: str
    dtype: str = "f8"

    def __call__(self, left: Array, right: Array) -> Array:
        parts = (in_precision(part, self.dtype) for part in (left, right))
        result = COMPARISONS[self.sign](*parts).astype(np.float64)
        return np.where(np.isnan(left) | np.isnan(right), np.nan, result)


def _both(left: Array, right: Array) -> Array:
    return np.where(
        np.isnan(left) | np.isnan(right), np.nan, (left != 0) & (right != 0)
    )


def _either(left: Array, right: Array) -> Array:
    return np.where(
        np.isnan(left) | np.isnan(right), np.nan, (left != 0) | (right != 0)
    )


def _not(value: Array) -> Array:
    return np.where(np.isnan(value), np.nan, value == 0)


def where(condition: Array, left: Array, right: Array) -> Array:
    return np.where(np.isnan(condition), np.nan, np.where(condition != 0, left, right))


def missing(value: Array) -> Array:
    return np.isnan(value).astype(np.float64)


def blows_from(eastward: Array, northward: Array) -> Array:
    """Return the direction that a wind blows from, in degrees clockwise from north, 0 to below 360;
    missing where there is no wind.

    By definition of WMO-No. 8, vol. I, ch. 5: opposite to the vector of the wind.
    """
    degrees = np.degrees(np.arctan2(eastward, northward)) + 180.0
    calm = (eastward == 0) & (northward == 0)
    return np.where(calm, np.nan, np.where(degrees >= 360.0, degrees - 360.0, degrees))


LOGIC: dict[str, Callable[..., Array]] = {"and": _both, "or": _either, "not": _not}
