"""The formats there are, found by the look of a file or by the suffix of an output."""

from __future__ import annotations

from dataclasses import dataclass
from importlib import import_module
from pathlib import Path

from rhodolite.arrays import Engine
from rhodolite.errors import DataError, UsageError
from rhodolite.model.dataset import Dataset


@dataclass(frozen=True)
class Format:
    """An open format.

    Parameters
    ----------
    name : str
        As people call it.
    suffixes : tuple of str
        Suffixes of its files; the first is the usual one.
    signatures : tuple of bytes
        What its files begin with.
    module : str
        Where its `read` and `write` live; imported when first needed.
    grouped : bool
        Whether its files can hold groups.
    """

    name: str
    suffixes: tuple[str, ...]
    signatures: tuple[bytes, ...]
    module: str
    grouped: bool = False

    def read(self, path: Path, group: str | None = None) -> Dataset:
        if group is None:
            return import_module(self.module).read(path)  # type: ignore[no-any-return]
        if not self.grouped:
            raise DataError(f"{path}: a {self.name} file has no groups; leave out ':{group}'")
        return import_module(self.module).read(path, group)  # type: ignore[no-any-return]

    def write(self, dataset: Dataset, path: Path, engine: Engine) -> None:
        import_module(self.module).write(dataset, path, engine)


FORMATS = (
    Format(
        "NetCDF",
        (".nc", ".nc4", ".cdf"),
        (b"\x89HDF\r\n\x1a\n", b"CDF\x01", b"CDF\x02", b"CDF\x05"),
        "rhodolite.formats.netcdf",
        grouped=True,
    ),
)
COLLECTION = Format("collection", (".toml",), (), "rhodolite.formats.collection")
"""Names a set of files; told by its suffix, since it is text."""


def format_of(path: Path) -> Format:
    """Return the format of a file, told by its first bytes.

    Raises
    ------
    DataError
        If the file is empty or in no format that can be read.
    """
    with path.open("rb") as file:
        start = file.read(16)
    if start and path.suffix.lower() in COLLECTION.suffixes:
        return COLLECTION
    if not start:
        raise DataError(f"{path}: the file is empty")
    for candidate in FORMATS:
        if any(start.startswith(signature) for signature in candidate.signatures):
            return candidate
    offered = ", ".join(f"{f.name} ({' '.join(f.suffixes)})" for f in (*FORMATS, COLLECTION))
    raise DataError(f"{path}: this is not a gridded dataset (it begins with {start[:8]!r}). Can be read: {offered}.")


def format_for(path: Path) -> Format:
    """Return the format to write, told by the suffix of the output.

    Raises
    ------
    UsageError
        If no format has the suffix.
    """
    for candidate in FORMATS:
        if path.suffix.lower() in candidate.suffixes:
            return candidate
    offered = ", ".join(suffix for f in FORMATS for suffix in f.suffixes)
    given = f"the suffix '{path.suffix}'" if path.suffix else "no suffix"
    raise UsageError(f"{path}: {given} names no format to write a dataset in. Use one of {offered}.")
