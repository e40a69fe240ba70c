"""Formulas as text, which is read as the same formula."""

from __future__ import annotations

from rhodolite.operations.expressions.parser import (
    NOT,
    SIGN,
    STRENGTH,
    Name,
    Node,
    Number,
)

_OPERAND = 9
"""Binds closer than every operator."""


def write_formula(node: Node) -> str:
    """Return a formula as it is typed.

    Parameters
    ----------
    node : Node
        Its numbers are finite and not negative, as those are that are read.

    Examples
    --------
    >>> from rhodolite.operations.expressions.parser import Formula
    >>> write_formula(Formula.parse("(a+b) * -c ^ 2").tree)
    '(a + b) * -c ^ 2'
    """
    return _write(node)[0]


def _write(node: Node) -> tuple[str, int]:
    """Return the text of a part, and how close it binds."""
    if isinstance(node, Name):
        return node.name, _OPERAND
    if isinstance(node, Number):
        return _write_number(node), _OPERAND
    if node.function == "negative":
        return f"-{_within(node.arguments[0], SIGN - 1)}", SIGN
    if node.function == "not":
        return f"not {_within(node.arguments[0], NOT - 1)}", NOT
    strength = STRENGTH.get(node.function)
    if strength is None:
        return (
            f"{node.function}({', '.join(map(write_formula, node.arguments))})",
            _OPERAND,
        )
    left, right = node.arguments
    # Powers are read from the right, all others from the left, and comparisons do not chain.
    to_the_right = node.function == "^"
    chains = not to_the_right and strength != STRENGTH["<"]
    before = _within(left, strength - 1 if chains else strength)
    after = _within(right, strength - 1 if to_the_right else strength)
    return f"{before} {node.function} {after}", strength


def _within(node: Node, strength: int) -> str:
    """Return the text of a part, in brackets unless it binds closer than a strength."""
    text, own = _write(node)
    return text if own > strength else f"({text})"


def _write_number(number: Number) -> str:
    units = "" if number.units is None else f"[{number.units}]"
    return repr(number.value).removesuffix(".0") + units
