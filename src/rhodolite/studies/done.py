"""Which outputs of a study are there, and from what they were made."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from rhodolite.formats.text.filename_pattern import fits_pattern
from rhodolite.studies.fingerprints import fingerprint


class DoneBefore:
    """A small file beside the outputs of a study.

    Parameters
    ----------
    path : Path, optional
        Nothing is remembered where there is none.
    """

    def __init__(self, path: Path | None) -> None:
        self._path = path
        self._entries: dict[str, Any] = {}
        if path is None:
            return
        try:
            entries = json.loads(path.read_text(encoding="utf-8"))
            self._entries = entries if isinstance(entries, dict) else {}
        except (OSError, ValueError):
            pass  # nothing is known then, and everything made again

    def holds(self, name: str, key: str, place: Path) -> bool:
        """Whether an output is as it was made, from what it would be made from now."""
        entry = self._entries.get(name)
        return (
            isinstance(entry, dict)
            and entry.get("from") == key
            and self.is_own(name, place)
        )

    def knows(self, name: str, place: Path) -> bool:
        """Whether the study has written something at a place where there is something now."""
        if not isinstance(self._entries.get(name), dict):
            return False
        try:
            return bool(_state(place))
        except OSError:
            return False

    def is_own(self, name: str, place: Path) -> bool:
        """Whether what lies at a place is what the study has written there."""
        entry = self._entries.get(name)
        if not isinstance(entry, dict):
            return False
        try:
            return bool(entry.get("is") == _state(place))
        except OSError:
            return False

    def keep(self, name: str, key: str, place: Path) -> None:
        """Put on record that an output is there."""
        self._entries[name] = {"from": key, "is": _state(place)}
        if self._path is None:
            return
        temporary = self._path.with_name(f"{self._path.name}.part")
        temporary.write_text(json.dumps(self._entries, indent=1), encoding="utf-8")
        temporary.replace(self._path)


def _state(place: Path) -> Any:
    """Return what an output looks like; of a set of files, all of them."""
    if place.exists():
        return fingerprint(place)
    near = (
        sorted(place.parent.iterdir())
        if "{" in place.name and place.parent.is_dir()
        else []
    )
    matching = [path for path in near if fits_pattern(place.name, path.name)]
    if not matching:
        raise FileNotFoundError(place)
    return [fingerprint(path) for path in matching]
