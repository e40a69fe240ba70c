"""The operations, one module each, found by looking through this package."""

from __future__ import annotations

import pkgutil
from functools import cache
from importlib import import_module

from rhodolite.operations.declaration import from_plain, operation, parameter, parameters, to_plain

__all__ = ["all_operations", "from_plain", "operation", "parameter", "parameters", "to_plain"]


@cache
def all_operations() -> dict[str, type]:
    """Return every operation by its verb, in the order of their modules' names."""
    found = {}
    for module in sorted(pkgutil.iter_modules(__path__), key=lambda m: m.name):
        for thing in vars(import_module(f"{__name__}.{module.name}")).values():
            if isinstance(thing, type) and thing.__module__ == f"{__name__}.{module.name}" and hasattr(thing, "verb"):
                found[thing.verb] = thing
    return found
