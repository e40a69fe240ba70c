"""Ctrl-C, requests to terminate and terminals that close, all answered alike: nothing half-written
stays."""

from __future__ import annotations

import signal
from collections.abc import Iterator
from types import CodeType, FrameType

_IMPORTING = "<frozen importlib"
_THREADS = "threading.py"
_POOL = "concurrent/futures/thread.py"
_HANDING_OVER = "submit"
_WAITING = ("wait", "join", "_wait_for_tstate_lock")
"""Functions of threads that may take long, and can be left at any moment."""
_AGAIN = 0.02
"""Seconds after which an interruption is tried again."""


def catch_interruptions() -> None:
    """Have all of them raise KeyboardInterrupt, but not in the middle of an import, nor where work
    is handed over to a thread.

    What is cut off there at the wrong moment leaves a lock taken, for which other threads, and then
    the end of the program, would wait forever.
    """
    usual = (signal.SIG_DFL, signal.default_int_handler)
    for name in ("SIGINT", "SIGTERM", "SIGHUP"):
        number = getattr(signal, name, None)
        if number is not None and signal.getsignal(number) in usual:
            signal.signal(number, _interrupt)
    if hasattr(signal, "setitimer"):
        signal.signal(signal.SIGALRM, _interrupt)


def _interrupt(_: int, frame: FrameType | None) -> None:
    if hasattr(signal, "setitimer") and _may_hold_a_lock(frame):
        signal.setitimer(signal.ITIMER_REAL, _AGAIN)
        return
    raise KeyboardInterrupt


def _may_hold_a_lock(frame: FrameType | None) -> bool:
    """Return whether a moment is one of few in which a lock is taken or left."""
    if frame is None:
        return False
    inner = frame.f_code
    within = _is_of(inner, _THREADS) and inner.co_name not in _WAITING
    return within or any(_is_short(code) for code in _calls(frame))


def _is_short(code: CodeType) -> bool:
    hands_over = _is_of(code, _POOL) and code.co_name == _HANDING_OVER
    return hands_over or code.co_filename.startswith(_IMPORTING)


def _is_of(code: CodeType, name: str) -> bool:
    return code.co_filename.replace("\\", "/").endswith(f"/{name}")


def _calls(frame: FrameType | None) -> Iterator[CodeType]:
    while frame is not None:
        yield frame.f_code
        frame = frame.f_back
