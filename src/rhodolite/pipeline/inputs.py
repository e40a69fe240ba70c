"""Inputs as they are asked for: which files, and how they are to be understood."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from rhodolite.errors import UsageError
from rhodolite.formats.concatenate import Overlap
from rhodolite.formats.normalise import declare_missing
from rhodolite.formats.open import expand, open_dataset
from rhodolite.formats.reading_rules import USUAL_RULES, ReadingRules, reading_by
from rhodolite.model.dataset import Dataset
from rhodolite.operations.pairing.ensemble import member_names
from rhodolite.pipeline.stage import Stage
from rhodolite.plain_text import write_number


@dataclass(frozen=True)
class Input:
    """Files that are read as one dataset, or as the members of an ensemble.

    Parameters
    ----------
    name : str
    files : tuple of str
        Files, patterns and addresses.
    group : str, optional
        The group to read of files that have groups.
    members : bool
        Whether they are the members of an ensemble, one per input, or one per file where there is
        a single pattern.
    missing_value : float, optional
        A number that stands for missing values, besides those that the files name.
    overlap : Overlap, optional
        Which file counts where several hold the same time.
    variables : tuple of str
        The variables that are read; all where it is empty.
    description : str, optional
        A file that says what tables or text grids hold, as for `build`.
    rules : ReadingRules
        How files are read, where they do not say it themselves.
    """

    name: str
    files: tuple[str, ...]
    group: str | None = None
    members: bool = False
    missing_value: float | None = None
    overlap: Overlap | None = None
    variables: tuple[str, ...] = ()
    description: str | None = None
    rules: ReadingRules = USUAL_RULES

    def open(self) -> Stage:
        """Return what the files hold, of which no value is read yet.

        Raises
        ------
        DataError
            If a file is missing or cannot be read, or they do not fit together.
        UsageError
            If members are asked for and there is a single file.
        """
        with reading_by(self.rules):
            members, names = self._read()
        stage = Stage(members, names, rules=self.rules)
        value = self.missing_value
        if value is not None:
            stage = stage.each(lambda dataset: declare_missing(dataset, value))
        if self.variables:
            # What a variable needs, such as its grid mapping, may be found in normalising only.
            stage = stage.normalised.each(
                lambda dataset: dataset.restrict(map(dataset.find, self.variables))
            )
        return stage

    def _read(self) -> tuple[Sequence[Dataset], Sequence[str]]:
        if self.description is not None:
            from rhodolite.building import build  # pandas takes long to import

            return [build(self.files, Path(self.description))], ("",)
        if not self.members:
            return [
                open_dataset(self.files, self.overlap, self.group, generous=False)
            ], ("",)
        several = len(self.files) > 1
        files = self.files if several else [str(path) for path in expand(self.files[0])]
        if len(files) == 1:
            raise UsageError(
                f"--members: {files[0]} is a single file; name each member, such as a.nc b.nc "
                "'c_*.nc'"
            )
        opened = [
            open_dataset(text, group=self.group, generous=False) for text in files
        ]
        return opened, member_names(files)

    def words(self) -> list[str]:
        """Return what is typed besides the files to read them like this."""
        words = ["--members"] if self.members else []
        words += ["--group", shlex.quote(self.group)] if self.group else []
        if self.missing_value is not None:
            words += ["--missing-value", write_number(self.missing_value)]
        if self.variables:
            words += ["--variable", shlex.quote(",".join(self.variables))]
        if self.description is not None:
            words += ["--description", shlex.quote(self.description)]
        return words + self.rules.words()
