"""How far a long piece of work has come, for those who watch."""

from __future__ import annotations

from typing import Protocol


class Progress(Protocol):
    """Is told how far a long piece of work has come."""

    def begin(self, what: str, total: int, nbytes: int) -> None: ...
    def advance(self) -> None: ...
    def end(self) -> None: ...


class Silent:
    """Progress that nobody watches."""

    def begin(self, what: str, total: int, nbytes: int) -> None: ...
    def advance(self) -> None: ...
    def end(self) -> None: ...
