"""From an output back to the study that made it, and to the inputs that it was made of."""

from __future__ import annotations

import tomllib
from pathlib import Path

from rhodolite.errors import DataError
from rhodolite.studies.carried import find_study, home_of, verify_inputs
from rhodolite.studies.description import Study
from rhodolite.studies.reader import read_study_text


def trace(path: Path) -> tuple[Study, Path]:
    """Return the study that a file carries, and the folder that its inputs are named from.

    Raises
    ------
    DataError
        If it carries none.
    """
    text, place = find_study(path)
    study = read_study_text(text, Path(f"the study in {path}"))
    output = next(iter([*study.reports, *study.outputs]))
    return study, home_of(place, output)


def verify(path: Path) -> list[tuple[str, str]]:
    """Return whether each input of a file is still what it was, in words, with its name.

    Raises
    ------
    DataError
        If it carries no study, or does not say how it was made.
    """
    _, home = trace(path)
    try:
        making = tomllib.loads(find_study(path).study).get("made")
        return verify_inputs(making, home)
    except DataError as error:
        raise DataError(f"{path}: {error}") from None
