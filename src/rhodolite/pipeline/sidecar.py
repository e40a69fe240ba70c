"""The study of an output whose format has no place for it: a small file beside it."""

from __future__ import annotations

import re
from pathlib import Path

from rhodolite.errors import OutputError
from rhodolite.formats.text.filename_pattern import fits_pattern

SUFFIX = ".study.toml"
WITHOUT_PLACE = (".csv", ".asc")
"""Suffixes of outputs that carry no study themselves."""
_OUTPUT = re.compile(r'^\[outputs\."(?P<name>[^"\n]*)"\]', re.MULTILINE)
_LONGEST = 1 << 20


def sidecar_of(output: Path) -> Path:
    """Return the file that the study of an output lies in.

    Parameters
    ----------
    output : Path
        With fields in its name it stands for many files, which have one study.
    """
    return output.with_name(re.sub(r"[{}]", "", output.name) + SUFFIX)


def find_sidecar(output: Path) -> Path | None:
    """Return the study beside an output, which may be one file of many; None where there is
    none.
    """
    near = sorted(output.parent.glob(f"*{SUFFIX}"))
    return next(
        (path for path in [sidecar_of(output), *near] if _is_of(path, output)), None
    )


def make_way(output: Path, overwrite: bool) -> None:
    """Remove the study of an output that is gone, and refuse to replace a file that happens to be
    called like it.

    Parameters
    ----------
    output : Path
    overwrite : bool
        Whether existing files may be replaced.

    Raises
    ------
    OutputError
        If there is one.
    """
    path = sidecar_of(output)
    if overwrite or not path.exists():
        return
    if not _is_of(path, output):
        raise OutputError(
            f"{path}: exists already, and the study of {output.name} would be written there; "
            "choose another name or add --overwrite"
        )
    path.unlink()


def drop_sidecar(output: Path) -> None:
    """Remove the study of an output that has been replaced by one without."""
    path = sidecar_of(output)
    if _is_of(path, output):
        path.unlink()


def _is_of(path: Path, output: Path) -> bool:
    """Return whether a file is the study of an output."""
    try:
        if not path.is_file() or path.stat().st_size > _LONGEST:
            return False
        match = _OUTPUT.search(path.read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return False
    name = Path(match.group("name")).name if match else ""
    return name == output.name or ("{" in name and fits_pattern(name, output.name))
