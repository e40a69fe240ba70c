"""Where the formulas of operations come from."""

from __future__ import annotations

from collections.abc import Iterable

from rhodolite.operations.declaration import Step


def sources_of(steps: Iterable[Step]) -> tuple[str, ...]:
    """Return the sources of what steps compute, each once, in order."""
    return tuple(dict.fromkeys(text for step in steps for text in step.sources()))
