"""The verbs that are not steps of a chain, one module each, and the table of all verbs.

Each module has `run(words, quiet)`, which returns an exit code. Nothing here computes anything.
"""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module
from typing import Any

from rhodolite.operations import SUMMARIES as OPERATIONS

FIRST_VERBS = {
    "inspect": "What a dataset holds, in people's terms.",
    "check": "Whether a dataset follows the CF conventions, and what hinders its use by others.",
    "join": "Many files as one dataset: a collection that names them, or one written file.",
    "build": "A dataset that explains itself, from tables or text grids and a description.",
}
LAST_VERBS = {
    "study": "All outputs that a study file asks for, from named inputs by named steps.",
    "retrace": "The study that made a file, which the file carries with it.",
    "serve": "Datasets over HTTP, for programs and browsers.",
    "demo": "Writes made-up example data and runs the full example.",
}
DRAW = "A picture: draw map, panels, series, years, profile, section or animation."
ALL_VERBS = {**FIRST_VERBS, **OPERATIONS, "draw": DRAW, **LAST_VERBS}
"""The summary of every verb, in the order in which people work."""


def own_verb(verb: str) -> Callable[[list[str], bool], int] | None:
    """Return what runs a verb that is not a step of a chain; None for all others."""
    module = module_of(verb)
    return None if module is None else module.run


def module_of(verb: str) -> Any:
    """Return the module of a verb that is not a step of a chain; None for all others."""
    if verb not in {**FIRST_VERBS, **LAST_VERBS}:
        return None
    return import_module(f"rhodolite.cli.verbs.{verb}")
