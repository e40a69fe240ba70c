"""Complete outputs put into their place, safe against interruption, kills and loss of power.

What is being made has a hidden name with the process that makes it, so that the next run can tell
what a dead process left behind. A lock beside the output keeps a second writer away.
"""

from __future__ import annotations

import contextlib
import ctypes
import hashlib
import os
import platform
import re
import secrets
import shutil
import signal
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from types import FrameType

from rhodolite.errors import BusyError, OutputError, warn

_MARK = re.compile(r"\.(\d+)-([0-9a-f]{6})-[0-9a-f]{8}\.(?:part|old)")
_COMPLETE = ".complete"
"""Stands in a folder of files that are complete and about to be moved."""
_EXCHANGE = 2
"""The flag RENAME_EXCHANGE of Linux's renameat2."""
_CURRENT_FOLDER = -100
_LONGEST_NAME = 180
"""Bytes that leave room for a mark in the 255 that file systems allow."""
_FEW_FILES = 64
"""So many files are synchronised one by one; more all at once."""
_SECONDS_TO_SIGN = 10.0
_SIGNALS = ("SIGINT", "SIGTERM", "SIGHUP", "SIGALRM")


def hidden_name(path: Path, ending: str = "part") -> Path:
    """Return a hidden name beside an output, which says who makes it.

    Parameters
    ----------
    path : Path
        The output; its suffix stays, since writers go by it.
    ending : {"part", "old"}
    """
    mark = f"{os.getpid()}-{_host()}-{secrets.token_hex(4)}"
    suffix = whole_suffix(path)
    stem = path.name.removesuffix(suffix)
    return path.with_name(f".{_short(stem)}.{mark}.{ending}{suffix}")


def whole_suffix(path: Path) -> str:
    """Return the suffix by which a writer goes: of what is compressed as a whole, with that
    before it."""
    if path.suffix.lower() != ".gz":
        return path.suffix
    return "".join(path.suffixes[-2:])


def _lock_name(path: Path) -> Path:
    return path.with_name(f".{_short(path.name)}.lock")


def _short(name: str) -> str:
    """Return a name, or what stands for it where it leaves no room for more in a file's name."""
    encoded = os.fsencode(name)
    return (
        name
        if len(encoded) <= _LONGEST_NAME
        else hashlib.sha256(encoded).hexdigest()[:32]
    )


@contextmanager
def lock(path: Path) -> Iterator[None]:
    """Keep other writers from an output.

    Raises
    ------
    OutputError
        If another process is writing it.
    """
    beside, is_taken = _lock_name(path), False
    try:
        # An interruption between taking it and knowing so would leave it there.
        with holding_signals():
            _take_or_refuse(beside, path)
            is_taken = True
        yield
    finally:
        if is_taken:
            with holding_signals():
                _remove_or_warn(beside)


def _take_or_refuse(beside: Path, path: Path) -> None:
    for _ in range(2):
        try:
            return _take(beside, hidden_name(path))
        except FileExistsError:
            if not _is_left(beside):
                raise BusyError(
                    f"{path}: another process is writing it ({beside.name} says which); wait for "
                    "it, or choose another name"
                ) from None
            beside.unlink(missing_ok=True)
    raise BusyError(f"{path}: another process is writing it; wait for it")


def _take(beside: Path, hidden: Path) -> None:
    """Make the file of a lock, with the name of this process in it from the first moment on.

    Raises
    ------
    FileExistsError
        If it is there already.
    """
    owner = f"{os.getpid()}-{_host()}\n"
    try:
        hidden.write_text(owner)
        try:
            os.link(hidden, beside)
        except FileExistsError:
            raise
        except (OSError, AttributeError):  # file systems without links
            with beside.open("x") as file:
                file.write(owner)
    finally:
        hidden.unlink(missing_ok=True)


def _is_left(beside: Path) -> bool:
    """Whether the process that has taken a lock is dead; where it is old and names none, it is."""
    owner = _read_owner(beside)
    if owner:
        return _has_dead_owner(owner)
    with contextlib.suppress(OSError):
        return time.time() - beside.stat().st_mtime > _SECONDS_TO_SIGN
    return True


def recover(path: Path) -> None:
    """Finish or undo what a process that died has left, unless another writes the output now."""
    beside = _lock_name(path)
    if beside.exists() or any(_leftovers(path)):
        with contextlib.suppress(OutputError, OSError), lock(path):
            clean_up(path)


def clean_up(path: Path) -> None:
    """Finish or undo what a process that died has left beside an output."""
    for left, is_old in list(_leftovers(path)):
        if is_old:
            _restore(left, path)
        elif (left / _COMPLETE).exists():
            move_all(left)
        else:
            remove(left)


def put_in_place(hidden: Path, target: Path) -> None:
    """Give a complete output its name; of one that is replaced, either all is there or nothing.

    Parameters
    ----------
    hidden : Path
        A file or a folder.
    target : Path
    """
    synchronise(hidden)
    with holding_signals():
        if not target.is_dir():
            hidden.replace(target)
        elif _exchange(hidden, target):
            _remove_or_warn(hidden)
        else:
            # Where folders cannot be exchanged there is a moment in which only the old one's hidden
            # name is left; the next run gives it its name again.
            old = hidden_name(target, "old")
            target.rename(old)
            hidden.rename(target)
            _remove_or_warn(old)
    _synchronise_folder(target.parent)


def move_all(folder: Path) -> None:
    """Move all files of a hidden folder beside it, and remove it.

    Where that is interrupted the next run finishes it, since a mark says that all are complete.
    """
    synchronise(folder)
    mark = folder / _COMPLETE
    mark.touch()
    _synchronise_folder(folder)
    with holding_signals():
        for file in sorted(folder.iterdir()):
            if file.is_dir():
                put_in_place(file, folder.parent / file.name)
            elif file != mark:
                file.replace(folder.parent / file.name)
        _remove_or_warn(folder)
    _synchronise_folder(folder.parent)


def synchronise(path: Path) -> None:
    """Have the system write a file, or all files of a folder, to the disk."""
    files = (
        [path]
        if path.is_file()
        else [file for file in path.rglob("*") if file.is_file()]
    )
    if len(files) > _FEW_FILES and hasattr(os, "sync"):
        os.sync()
        return
    for file in files:
        with file.open("rb+") as opened:
            os.fsync(opened.fileno())


@contextmanager
def holding_signals() -> Iterator[None]:
    """Have signals that end the program wait until a short piece of work is done."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    waiting: list[tuple[int, FrameType | None]] = []
    signals: dict[int, Callable[[int, FrameType | None], object]] = {}
    for name in _SIGNALS:
        number = getattr(signal, name, None)
        handler = None if number is None else signal.getsignal(number)
        if number is not None and callable(handler):
            signals[number] = handler
            signal.signal(number, lambda n, frame: waiting.append((n, frame)))
    try:
        yield
    finally:
        for number, handler in signals.items():
            signal.signal(number, handler)
        for number, frame in waiting[:1]:
            signals[number](number, frame)


def remove(path: Path) -> None:
    """Remove a file or a folder with all that is in it, if it is there."""
    if path.is_dir():
        shutil.rmtree(path)
    else:
        path.unlink(missing_ok=True)


def _remove_or_warn(path: Path) -> None:
    """Remove what an output has replaced; that it stays is no failure of the output."""
    try:
        remove(path)
    except OSError as error:
        why = error.strerror or error
        warn(f"{path}: what is no longer needed cannot be removed: {why}")


def discard(path: Path) -> None:
    """Remove what was not completed; a complete set of files is left for the next run to move."""
    if not (path / _COMPLETE).exists():
        _remove_or_warn(path)


def _leftovers(path: Path) -> Iterator[tuple[Path, bool]]:
    """Yield what dead processes left beside an output, and whether it is an old output."""
    suffix = whole_suffix(path)
    stem = path.name.removesuffix(suffix)
    for left in path.parent.glob(f".{_escaped(_short(stem))}.*{_escaped(suffix)}"):
        match = _MARK.search(left.name)
        if match is not None and _has_dead_owner((int(match.group(1)), match.group(2))):
            yield left, match.group(0).endswith("old")


def _restore(old: Path, path: Path) -> None:
    """Give an output that was renamed away its name again, unless the new one is there."""
    if path.exists():
        remove(old)
    else:
        old.rename(path)


def _exchange(first: Path, second: Path) -> bool:
    """Exchange two names at once; False where the system or the disk cannot."""
    if not sys.platform.startswith("linux"):
        return False
    library = ctypes.CDLL(None, use_errno=True)
    if not hasattr(library, "renameat2"):
        return False
    names = os.fsencode(first), os.fsencode(second)
    folder = _CURRENT_FOLDER
    return bool(library.renameat2(folder, names[0], folder, names[1], _EXCHANGE) == 0)


def _synchronise_folder(folder: Path) -> None:
    if os.name != "posix":
        return
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        with contextlib.suppress(OSError):  # some file systems synchronise no folders
            os.fsync(descriptor)
    finally:
        os.close(descriptor)


def _read_owner(path: Path) -> tuple[int, str] | None:
    """Return number and host of the process that holds a lock; None where it says neither."""
    try:
        number, _, host = path.read_text().strip().partition("-")
        return int(number), host
    except (OSError, ValueError):
        return None


def _has_dead_owner(owner: tuple[int, str] | None) -> bool:
    """Return whether a process ran on this machine and has ended."""
    if owner is None or owner[1] != _host() or os.name != "posix":
        return False
    try:
        os.kill(owner[0], 0)
    except ProcessLookupError:
        return True
    except PermissionError:
        return False
    return False


def _host() -> str:
    return hashlib.sha256(platform.node().encode()).hexdigest()[:6]


def _escaped(text: str) -> str:
    """Return a name for use in a pattern of names."""
    return re.sub(r"([*?[])", r"[\1]", text)
