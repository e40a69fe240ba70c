"""How kernels are compiled: without holding the lock of the interpreter, and kept on disk."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar, cast

from numba import njit

F = TypeVar("F", bound=Callable[..., object])


def compiled(function: F) -> F:
    """Have a function compiled at its first use, and what is compiled kept for later runs.

    Where no folder can be written to, neither that of the package nor the user's cache, it is
    compiled in every run.

    Parameters
    ----------
    function : callable
        Of what Numba knows.
    """
    try:
        return cast("F", njit(nogil=True, error_model="numpy", cache=True)(function))
    except RuntimeError:
        return cast("F", njit(nogil=True, error_model="numpy")(function))
