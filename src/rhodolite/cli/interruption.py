"""Ctrl-C, requests to terminate and terminals that close, all answered alike: nothing half-written
stays."""

from __future__ import annotations

import signal
from types import FrameType

_IMPORTING = "<frozen importlib"
_AGAIN = 0.02
"""Seconds after which an interruption is tried again."""


def catch_interruptions() -> None:
    """Have all of them raise KeyboardInterrupt, but not in the middle of an import.

    An import that is cut off at the wrong moment leaves a lock of the interpreter taken, for which
    other threads, and then the end of the program, would wait forever.
    """
    usual = (signal.SIG_DFL, signal.default_int_handler)
    for name in ("SIGINT", "SIGTERM", "SIGHUP"):
        number = getattr(signal, name, None)
        if number is not None and signal.getsignal(number) in usual:
            signal.signal(number, _interrupt)
    if hasattr(signal, "setitimer"):
        signal.signal(signal.SIGALRM, _interrupt)


def _interrupt(_: int, frame: FrameType | None) -> None:
    if hasattr(signal, "setitimer") and _is_importing(frame):
        signal.setitimer(signal.ITIMER_REAL, _AGAIN)
        return
    raise KeyboardInterrupt


def _is_importing(frame: FrameType | None) -> bool:
    while frame is not None:
        if frame.f_code.co_filename.startswith(_IMPORTING):
            return True
        frame = frame.f_back
    return False
