"""How kernels are compiled: without holding the lock of the interpreter, and kept on disk."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any, TypeVar, cast

from numba import njit
from numba.core import event
from numba.np import linalg

from rhodolite.kernels.notices import tell
from rhodolite.trusted import is_trusted

F = TypeVar("F", bound=Callable[..., object])


def _import_array_functions() -> None:
    """Have Numba import its array functions without SciPy's linear algebra.

    It would load that, and take half as long again, only to see whether `numpy.dot` could be
    compiled, which no kernel needs. Where a program that uses this package does, it is looked for
    then.
    """
    look = linalg.ensure_blas
    linalg.ensure_blas = lambda: None
    try:
        from numba.np import arraymath  # noqa: F401
    finally:
        linalg.ensure_blas = look


_import_array_functions()


def compiled(function: F) -> F:
    """Have a function compiled at its first use, and what is compiled kept for later runs.

    Parameters
    ----------
    function : callable
        Of what Numba knows.
    """
    return cast("F", _dispatcher(function))


def compiled_for(signature: str) -> Callable[[F], F]:
    """Have a function that only compiled functions call compiled for these types alone.

    Without that a number that is written out has a type of its own, and one function is compiled
    several times over, which takes longer than all else.

    Parameters
    ----------
    signature : str
        The type of what is returned, and of each argument, as Numba writes them.
    """
    return partial(_compile_now, signature)


def _compile_now(signature: str, function: F) -> F:
    dispatcher = _dispatcher(function, called_from_python=False)
    dispatcher.compile(signature)
    dispatcher.disable_compile()
    return cast("F", dispatcher)


def _dispatcher(
    function: Callable[..., object], *, called_from_python: bool = True
) -> Any:
    """Return what compiles a function.

    Where no folder can be written to, neither that of the package nor the user's cache, or others
    can write there, it is compiled in every run: what is kept is run as it is.
    """
    options: dict[str, Any] = {
        "nogil": True,
        "error_model": "numpy",
        "no_cfunc_wrapper": True,
    }
    if not called_from_python:
        options["no_cpython_wrapper"] = True
    try:
        dispatcher: Any = njit(cache=True, **options)(function)
        if is_trusted(Path(str(dispatcher.stats.cache_path))):
            return dispatcher
    except RuntimeError:
        pass
    return njit(**options)(function)


class _Announcer(event.Listener):  # type: ignore[misc]
    """Says so when something is compiled for the first time, since that takes a while."""

    said = False

    def on_start(self, _: Any) -> None:
        """Say it, once in a run."""
        if not self.said:
            self.said = True
            tell(
                "compiling what this needs for many cells, once on this machine: some 10 s"
            )

    def on_end(self, _: Any) -> None:
        """What is done needs no words."""


event.register("numba:compile", _Announcer())
