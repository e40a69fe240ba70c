"""What steps read beside the main data: other datasets, tables of sites, outlines."""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from rhodolite.formats.open import open_dataset
from rhodolite.model.dataset import Dataset
from rhodolite.regions.outlined_area import Outline
from rhodolite.regions.outlines import file_of_outline, find_outlines


class SideInputs:
    """Reads the files that parameters name, and remembers which they were.

    Attributes
    ----------
    paths : list of Path
        Files read so far, none of which an output may replace.
    """

    def __init__(self) -> None:
        self.paths: list[Path] = []

    def dataset(self, location: str) -> Dataset:
        """Return the dataset in a file, in files that match a pattern, or at an address."""
        opened = open_dataset(location)
        self.paths += [file.path for file in opened.files]
        return opened

    def sites(self, table: Any) -> tuple[Sequence[Any], Any]:
        """Return the variables that describe the sites of a table, in a file or a data frame, and
        the line of each site."""
        # pandas takes long to import.
        from rhodolite.formats.text.csv.sites import read_sites

        if not isinstance(table, str):
            with tempfile.TemporaryDirectory(prefix="rhodolite-") as folder:
                place = Path(folder) / "sites.csv"
                table.to_csv(place, index=False)
                return read_sites(place)
        path = table
        sites = read_sites(Path(path))
        self.paths.append(Path(path))
        return sites

    def outlines(self, name: str) -> list[Outline]:
        """Return the outlines of a country, of land or sea, or of a file."""
        outlines = find_outlines(name)
        path = file_of_outline(name)
        self.paths += [] if path is None else [path]
        return outlines
