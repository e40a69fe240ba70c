"""What was typed, as a study: written to a file where it is asked for, and carried by outputs."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from rhodolite.errors import RhodoliteWarning, UsageError

if TYPE_CHECKING:
    from rhodolite.model.dataset import Dataset
    from rhodolite.studies.description import Study

    StudyIn = Callable[[Path], Study]
    """Gives a study as it would lie in a folder."""


class Recording:
    """The file that `--record` asks for, or none.

    Parameters
    ----------
    name : str, optional
        What was typed.
    overwrite : bool
        Whether an existing file may be replaced.
    study : callable
        Gives the study as it would lie in a folder.

    Raises
    ------
    UsageError
        If it is no name of a study.
    OutputError
        If the file exists.
    """

    def __init__(self, name: str | None, overwrite: bool, study: StudyIn) -> None:
        self._path: Path | None = None
        self._overwrite = overwrite
        if name is None:
            return
        from rhodolite.formats.atomic_output import check_output
        from rhodolite.studies.record import write_study

        path = Path(name)
        if path.suffix.lower() != ".toml":
            raise UsageError(
                f"--record {name}: a study is a TOML file; write {path.stem}.toml"
            )
        check_output(path, overwrite, ())
        self._path, self._text = path, write_study(study(path.absolute().parent))

    def write(self) -> None:
        """Write the file, after the output is there."""
        if self._path is None:
            return
        from rhodolite.formats.atomic_output import complete_or_nothing

        with complete_or_nothing(self._path, self._overwrite, ()) as temporary:
            temporary.write_text(self._text, encoding="utf-8")


def tell_carried(
    study: StudyIn,
    inputs: Sequence[str],
    output: Path,
    dataset: Dataset,
    warned: Sequence[RhodoliteWarning],
) -> str:
    """Return the study that an output carries, as it would lie beside it.

    Parameters
    ----------
    study : callable
        Gives the study as it would lie in a folder.
    inputs : sequence of str
        Files and patterns.
    output : Path
    dataset : Dataset
        What is written or drawn.
    warned : sequence of RhodoliteWarning
    """
    from rhodolite.studies.record import tell_making, write_study

    folder = output.absolute().parent
    return write_study(study(folder), tell_making(inputs, folder, dataset, warned))
