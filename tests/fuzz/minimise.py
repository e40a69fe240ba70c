"""Makes what a mutant changed smaller, as long as it fails in the same way."""

from __future__ import annotations

import difflib
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

_COMPARED = 20_000
"""Bytes up to which files of different lengths are compared byte by byte."""


class Edit(NamedTuple):
    """Bytes of the seed from `start` to `stop` that are others in the mutant."""

    start: int
    stop: int
    new: bytes


def minimise(seed: Path, mutant: Path, fails: Callable[[], bool]) -> str:
    """Put back what a mutant need not change to fail, and return what is left in words."""
    left = []
    for original, changed in _pairs(seed, mutant):
        before = original.read_bytes()

        def fails_with(
            edits: list[Edit], before: bytes = before, path: Path = changed
        ) -> bool:
            path.write_bytes(_apply(before, edits))
            return fails()

        edits = _reduce(_edits(before, changed.read_bytes()), fails_with)
        changed.write_bytes(_apply(before, edits))
        left += [
            f"{changed.name}, {edit.start}: {before[edit.start : edit.stop][:40]!r} -> "
            f"{edit.new[:40]!r}"
            for edit in edits
        ]
    return "\n".join(left)


def _pairs(seed: Path, mutant: Path) -> list[tuple[Path, Path]]:
    if seed.is_dir():
        files = [path for path in sorted(seed.rglob("*")) if path.is_file()]
        both = [(path, mutant / path.relative_to(seed)) for path in files]
    else:
        beside = sorted(seed.parent.glob(f"{seed.stem}.*"))
        both = [(path, mutant.with_suffix(path.suffix)) for path in beside]
    return [pair for pair in both if pair[1].is_file()]


def _edits(before: bytes, after: bytes) -> list[Edit]:
    if len(before) == len(after):
        return [
            Edit(at, at + 1, after[at : at + 1])
            for at in range(len(before))
            if before[at] != after[at]
        ]
    if max(len(before), len(after)) > _COMPARED:
        head = next(
            (
                at
                for at, pair in enumerate(zip(before, after, strict=False))
                if pair[0] != pair[1]
            ),
            min(len(before), len(after)),
        )
        return [Edit(head, len(before), after[head:])]
    matcher = difflib.SequenceMatcher(None, before, after, autojunk=False)
    return [
        Edit(first, last, after[start:stop])
        for kind, first, last, start, stop in matcher.get_opcodes()
        if kind != "equal"
    ]


def _apply(before: bytes, edits: list[Edit]) -> bytes:
    pieces, at = [], 0
    for edit in edits:
        pieces += [before[at : edit.start], edit.new]
        at = edit.stop
    return b"".join([*pieces, before[at:]])


def _reduce(edits: list[Edit], fails: Callable[[list[Edit]], bool]) -> list[Edit]:
    """Leave out halves, then quarters, and so on, as long as it fails."""
    size = len(edits)
    while size:
        at = 0
        while at < len(edits):
            fewer = edits[:at] + edits[at + size :]
            if fails(fewer):
                edits = fewer
            else:
                at += size
        size //= 2
    return edits
