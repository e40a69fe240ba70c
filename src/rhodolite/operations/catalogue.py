"""Which operations there are: every class in this package that `operation` decorates."""

from __future__ import annotations

import ast
import pkgutil
from collections.abc import Iterator
from functools import cache
from importlib import import_module
from importlib.resources import files

import rhodolite.operations

_ORDER = (
    "subset",
    "extract",
    "annotate",
    "convert",
    "calc",
    "aggregate",
    "accumulate",
    "climatology",
    "anomaly",
    "index",
    "trend",
    "detrend",
    "correlate",
    "summarise",
    "regrid",
    "relevel",
    "compare",
)
"""The order in which people work; verbs that are not listed follow."""


@cache
def summaries() -> dict[str, str]:
    """Return the summary of every operation by its verb.

    The sources are parsed and not imported, since lists of verbs should appear at once.
    """
    found = {verb: text for _, verb, text in _declared()}
    return {verb: found[verb] for verb in sorted(found, key=_rank)}


@cache
def all_operations() -> dict[str, type]:
    """Return every operation by its verb."""
    modules = {module: import_module(f"rhodolite.operations.{module}") for module, _, _ in _declared()}
    found = {
        thing.verb: thing
        for module in modules.values()
        for thing in vars(module).values()
        if isinstance(thing, type) and hasattr(thing, "verb")
    }
    return {verb: found[verb] for verb in sorted(found, key=_rank)}


def _declared() -> Iterator[tuple[str, str, str]]:
    """Yield module, verb and summary of each class that is decorated as an operation."""
    for module in sorted(m.name for m in pkgutil.iter_modules(rhodolite.operations.__path__)):
        source = files("rhodolite.operations").joinpath(f"{module}.py").read_text(encoding="utf-8")
        if "@operation" not in source:
            continue
        for node in ast.parse(source).body:
            decorated = isinstance(node, ast.ClassDef) and any(
                isinstance(mark, ast.Name) and mark.id == "operation" for mark in node.decorator_list
            )
            if decorated and isinstance(node, ast.ClassDef):
                yield module, node.name.lower(), (ast.get_docstring(node) or "").splitlines()[0]


def _rank(verb: str) -> tuple[int, str]:
    return (_ORDER.index(verb) if verb in _ORDER else len(_ORDER)), verb
