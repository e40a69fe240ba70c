"""How kernels are compiled: without holding the lock of the interpreter, and kept on disk."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar, cast

from numba import njit
from numba.core import event

from rhodolite.kernels.notices import tell
from rhodolite.trusted import is_trusted

F = TypeVar("F", bound=Callable[..., object])


def compiled(function: F) -> F:
    """Have a function compiled at its first use, and what is compiled kept for later runs.

    Where no folder can be written to, neither that of the package nor the user's cache, or others
    can write there, it is compiled in every run: what is kept is run as it is.

    Parameters
    ----------
    function : callable
        Of what Numba knows.
    """
    try:
        kept = njit(nogil=True, error_model="numpy", cache=True)(function)
        if is_trusted(Path(str(kept.stats.cache_path))):
            return cast("F", kept)
    except RuntimeError:
        pass
    return cast("F", njit(nogil=True, error_model="numpy")(function))


class _Announcer(event.Listener):
    """Says so when something is compiled for the first time, since that takes a while."""

    said = False

    def on_start(self, _: Any) -> None:
        """Say it, once in a run."""
        if not self.said:
            self.said = True
            tell("compiling what this needs for many cells, once on this machine: some 10 s")

    def on_end(self, _: Any) -> None:
        """What is done needs no words."""


event.register("numba:compile", _Announcer())  # type: ignore[no-untyped-call]
