"""Formulas of ordinary arithmetic: read to a tree of plain nodes, which is all that is ever
computed."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Self

from rhodolite.errors import nearest_names
from rhodolite.model.typed_value import TypedValue
from rhodolite.model.units.aliases import read_typed_units
from rhodolite.model.units.udunits import is_unit
from rhodolite.operations.expressions.weather import WEATHER

FUNCTIONS = {
    "sqrt": 1,
    "exp": 1,
    "log": 1,
    "log10": 1,
    "log2": 1,
    "log1p": 1,
    "expm1": 1,
    "sinh": 1,
    "cosh": 1,
    "tanh": 1,
    "arcsin": 1,
    "arccos": 1,
    "arctan": 1,
    "floor": 1,
    "ceil": 1,
    "round": 1,
    "abs": 1,
    "sin": 1,
    "cos": 1,
    "tan": 1,
    "arctan2": 2,
    "speed": 2,
    "direction": 2,
    "min": -1,
    "max": -1,
    "where": 3,
    "mean": 2,
    "level": 2,
    "missing": 1,
    **{name: len(known.takes) for name, known in WEATHER.items()},
}
"""Functions and how many arguments they take; -1 for two or more."""
_TOKEN = re.compile(
    r"\s*(?:(?P<number>\d+\.?\d*(?:[eE][+-]?\d+)?|\.\d+(?:[eE][+-]?\d+)?)|(?P<name>[A-Za-z_]\w*)"
    r"|\[(?P<units>[^\]]*)\]|(?P<sign>\*\*|<=|>=|==|!=|[-+*/^<>(),]))"
)
STRENGTH = {
    "or": 1,
    "and": 2,
    "<": 4,
    "<=": 4,
    ">": 4,
    ">=": 4,
    "==": 4,
    "!=": 4,
    "+": 5,
    "-": 5,
    "*": 6,
    "/": 6,
    "^": 8,
}
NOT, SIGN = 3, 7


@dataclass(frozen=True)
class Number:
    """A number, with units where it is given some."""

    value: float
    units: str | None = None


@dataclass(frozen=True)
class Name:
    """A variable."""

    name: str


@dataclass(frozen=True)
class Call:
    """An operator or a function with its arguments."""

    function: str
    arguments: tuple[Node, ...]


Node = Number | Name | Call


@dataclass(frozen=True)
class Formula(TypedValue):
    """A formula and the text that it was read from."""

    text: str
    tree: Node

    @classmethod
    def parse(cls, text: str) -> Self:
        """Read a formula: numbers, `5[degC]`, names, + - * / ^, comparisons, and, or, not,
        functions.

        Raises
        ------
        ValueError
            If it is none; the message points to the place.
        """
        return cls(text, _Reader(text).whole())

    def __str__(self) -> str:
        return self.text

    def names(self) -> list[str]:
        """Return the names of variables in it, in the order of appearance."""
        return list(dict.fromkeys(_names(self.tree)))


def _names(node: Node) -> Iterator[str]:
    if isinstance(node, Name):
        yield node.name
    elif isinstance(node, Call):
        # The axis of a mean is not a variable.
        for argument in (
            node.arguments[:1] if node.function == "mean" else node.arguments
        ):
            yield from _names(argument)


class _Reader:
    """Reads a formula from left to right, by the strength of its operators (Pratt 1973)."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.tokens: list[tuple[str, str, int]] = []
        at = 0
        while at < len(text.rstrip()):
            match = _TOKEN.match(text, at)
            if not match:
                place = at + len(text[at:]) - len(text[at:].lstrip())
                raise ValueError(
                    self.pointing(place, self.advice(place) or "cannot be read")
                )
            kind = str(match.lastgroup)
            word = match.group(kind)
            self.tokens.append((kind, "^" if word == "**" else word, match.start(kind)))
            at = match.end()
        self.at = 0

    def whole(self) -> Node:
        if not self.tokens:
            raise ValueError("the formula is empty; write it like 'sqrt(ua^2 + va^2)'")
        tree = self.expression(0)
        if self.at < len(self.tokens):
            _, word, place = self.tokens[self.at]
            lacking = f"an operator is missing before '{word}'"
            raise ValueError(self.pointing(place, self.advice(place) or lacking))
        return tree

    def advice(self, place: int) -> str:
        """Return what to type where units follow a number without brackets; empty elsewhere."""
        units = self.text[place:].strip()
        kind, number, _ = next(
            (token for token in reversed(self.tokens) if token[2] < place), ("", "", 0)
        )
        if kind == "number" and is_unit(read_typed_units(units)):
            return f"units stand in brackets; write {number}[{units}]"
        return ""

    def peek(self) -> tuple[str, str, int]:
        return (
            self.tokens[self.at]
            if self.at < len(self.tokens)
            else ("end", "", len(self.text))
        )

    def take(self) -> tuple[str, str, int]:
        token = self.peek()
        self.at += 1
        return token

    def expression(self, strength: int) -> Node:
        left, is_comparison = self.operand(), False
        while True:
            kind, word, place = self.peek()
            own = STRENGTH.get(word, 0) if kind in ("sign", "name") else 0
            if own <= strength:
                return left
            if own == STRENGTH["<"] and is_comparison:
                raise ValueError(
                    self.pointing(
                        place, "comparisons do not chain; join two with 'and'"
                    )
                )
            self.at += 1
            right = self.expression(own - 1 if word == "^" else own)
            left, is_comparison = Call(word, (left, right)), own == STRENGTH["<"]

    def operand(self) -> Node:
        kind, word, place = self.take()
        if kind == "number":
            if self.peek()[0] == "units":
                return Number(float(word), self.take()[1].strip())
            return Number(float(word))
        if kind == "name" and word == "not":
            return Call("not", (self.expression(NOT),))
        if kind == "name" and word not in ("and", "or"):
            return self.call(word, place) if self.peek()[1] == "(" else Name(word)
        if word == "(":
            inner = self.expression(0)
            self.need(")")
            return inner
        if word == "-":
            return Call("negative", (self.expression(SIGN),))
        if word == "+":
            return self.expression(SIGN)
        raise ValueError(
            self.pointing(
                place,
                "a value is missing" if kind in ("end", "sign") else "cannot stand",
            )
        )

    def call(self, function: str, place: int) -> Node:
        if function not in FUNCTIONS:
            raise ValueError(
                self.pointing(
                    place,
                    f"there is no function '{function}'. {nearest_names(function, FUNCTIONS)}",
                )
            )
        self.need("(")
        arguments = [self.expression(0)]
        while self.peek()[1] == ",":
            self.at += 1
            arguments.append(self.expression(0))
        self.need(")")
        wanted = FUNCTIONS[function]
        if (wanted > 0 and len(arguments) != wanted) or (
            wanted < 0 and len(arguments) < 2
        ):
            count = wanted if wanted > 0 else "two or more"
            raise ValueError(
                self.pointing(
                    place, f"{function} takes {count} values and not {len(arguments)}"
                )
            )
        return Call(function, tuple(arguments))

    def need(self, word: str) -> None:
        _, taken, place = self.take()
        if taken != word:
            raise ValueError(self.pointing(place, f"'{word}' is missing"))

    def pointing(self, place: int, what: str) -> str:
        """Return a message that shows where something is wrong."""
        return (
            f"'{self.text[:place]}' >> '{self.text[place:]}': {what}"
            if self.text[place:]
            else f"'{self.text}': {what} at the end"
        )
