"""What kernels have to say while they work, for whoever listens."""

from __future__ import annotations

from collections.abc import Callable

listeners: list[Callable[[str], None]] = []


def tell(text: str) -> None:
    """Say something to all who listen."""
    for listener in listeners:
        listener(text)
