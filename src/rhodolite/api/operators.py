"""Python's operators and NumPy's functions as formulas: what a variable can be calculated with."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from rhodolite.errors import UsageError
from rhodolite.operations.expressions.parser import Call, Node, Number

FUNCTIONS: dict[Any, str] = {
    np.add: "+",
    np.subtract: "-",
    np.multiply: "*",
    np.divide: "/",
    np.power: "^",
    np.float_power: "^",
    np.negative: "negative",
    np.absolute: "abs",
    np.fabs: "abs",
    np.less: "<",
    np.less_equal: "<=",
    np.greater: ">",
    np.greater_equal: ">=",
    np.equal: "==",
    np.not_equal: "!=",
    np.logical_and: "and",
    np.logical_or: "or",
    np.logical_not: "not",
    np.bitwise_and: "and",
    np.bitwise_or: "or",
    np.invert: "not",
    np.sqrt: "sqrt",
    np.exp: "exp",
    np.log: "log",
    np.log10: "log10",
    np.log2: "log2",
    np.log1p: "log1p",
    np.expm1: "expm1",
    np.sinh: "sinh",
    np.cosh: "cosh",
    np.tanh: "tanh",
    np.arcsin: "arcsin",
    np.arccos: "arccos",
    np.arctan: "arctan",
    np.floor: "floor",
    np.ceil: "ceil",
    np.rint: "round",
    np.sin: "sin",
    np.cos: "cos",
    np.tan: "tan",
    np.arctan2: "arctan2",
    np.hypot: "speed",
    np.minimum: "min",
    np.maximum: "max",
    np.isnan: "missing",
    np.where: "where",
}
"""Functions of NumPy, and what formulas call them."""


def number_node(value: Any) -> Node:
    """Return a number as it stands in a formula, which has neither signs nor infinity of its own.

    Parameters
    ----------
    value : number
    """
    number = float(value)
    if math.isnan(number):
        return Call("/", (Number(0.0), Number(0.0)))
    size = (
        Call("/", (Number(1.0), Number(0.0)))
        if math.isinf(number)
        else Number(abs(number))
    )
    return Call("negative", (size,)) if math.copysign(1.0, number) < 0 else size


def is_number(value: Any) -> bool:
    """Return whether something is one number, of Python's or of NumPy's."""
    if isinstance(value, (np.ndarray, np.generic)):
        return value.ndim == 0 and value.dtype.kind in "biuf"
    return isinstance(value, (bool, int, float))


def formula_of(
    function: Any, arguments: tuple[Any, ...]
) -> tuple[str, tuple[Any, ...]] | None:
    """Return the name in formulas of a function of NumPy, and its arguments there; None where
    formulas have no such function.

    Parameters
    ----------
    function : callable
    arguments : tuple
    """
    if function is np.square and len(arguments) == 1:
        return "^", (*arguments, 2)
    if function is np.positive:
        return "+", (*arguments, 0)
    if function in FUNCTIONS:
        return FUNCTIONS[function], arguments
    return None


def refuse_function(function: Any) -> UsageError:
    """Return the error about a function of NumPy that formulas have not.

    Parameters
    ----------
    function : callable
    """
    name = getattr(function, "__name__", str(function))
    return UsageError(
        f"numpy.{name} of a variable is none of the functions that stay lazy; give it "
        f"numpy.asarray(variable), or variable.calculate(numpy.{name}) to work block by block"
    )
