"""What an HDF5 file holds that the NetCDF library misreads, or that lies in other files.

External storage, virtual datasets and external links lead to files that whoever made this one chose
and nobody named, so they are not read. Floating-point numbers of other than 32 and 64 bits the
library takes for text, which kills the process; groups that contain themselves it does not survive.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from rhodolite.errors import DataError
from rhodolite.formats.netcdf.file_cache import LIBRARY_LOCK
from rhodolite.plain_text import file_size

_MOST_OBJECTS, _MOST_ATTRIBUTES = 10_000, 100_000
_MOST_ATTRIBUTE_BYTES = 64_000_000


@dataclass(frozen=True)
class Oddities:
    """What is odd about the variables of a file, by their names with the groups they lie in.

    Attributes
    ----------
    elsewhere : dict of str
        The files that values lie in, besides their own.
    types : dict of dtype or str
        Types that are neither plain numbers nor text; in words where no library here knows them.
    """

    elsewhere: dict[str, str] = field(default_factory=dict)
    types: dict[str, np.dtype[Any] | str] = field(default_factory=dict)


def find_oddities(path: Path) -> Oddities:
    """Look through a file for what the NetCDF library must not be asked for.

    Raises
    ------
    DataError
        If a link leads out of the file, a group contains itself, or there is more than could be
        described.
    """
    import h5py

    oddities = Oddities()
    try:
        with LIBRARY_LOCK, h5py.File(path, "r") as file:
            _Walk(path, oddities).enter(file, frozenset())
    except (OSError, RuntimeError, ValueError, KeyError):
        return oddities  # damage, names that are no text included, which whoever reads it describes
    return oddities


def tell_type(odd: np.dtype[Any] | str) -> str:
    """Return in words what values are that are neither numbers nor text."""
    import h5py

    if isinstance(odd, str):
        return odd
    if h5py.check_ref_dtype(odd) is not None:
        return "reference"
    if odd.names is not None:
        return f"record ({', '.join(odd.names)})"
    if odd.subdtype is not None:
        return f"array of {odd.subdtype[0]}"
    return "opaque" if odd.kind == "V" else str(odd)


def is_held_by_caller() -> bool:
    """Return whether the calling thread holds the lock of h5py, as while it goes through an open
    file: another thread would wait for it without end."""
    from h5py._objects import phil

    return bool(phil._is_owned())


@dataclass
class _Walk:
    """A way through all groups of a file.

    Attributes
    ----------
    path : Path
    oddities : Oddities
    objects, attributes : int
        Groups and variables seen so far, and the attributes of these.
    attribute_bytes : int
        What their attributes take.
    """

    path: Path
    found: Oddities
    objects: int = 0
    attributes: int = 0
    attribute_bytes: int = 0

    def enter(self, group: Any, around: frozenset[Any]) -> None:
        """Note what is odd in a group and in those inside it; `around` are those it lies in."""
        import h5py

        place = h5py.h5o.get_info(group.id).addr
        if place in around:
            raise DataError(
                f"{self.path}: the group '{group.name}' contains itself; export it again"
            )
        self._count(group)
        for name in group:
            entry = self._follow(group, name)
            if isinstance(entry, h5py.Group):
                self.enter(entry, around | {place})
            elif isinstance(entry, h5py.Dataset):
                self._count(entry)
                _note(entry, self.path, self.found)

    def _follow(self, group: Any, name: str) -> Any:
        """Return what a name in a group stands for; None where that lies behind another name."""
        import h5py

        link = group.get(name, getlink=True)
        if isinstance(link, h5py.ExternalLink):
            raise DataError(
                f"{self.path}: '{name}' is a link to another file ({link.filename}), which nobody "
                "named; copy what is wanted into one file first"
            )
        return group.get(name) if isinstance(link, h5py.HardLink) else None

    def _count(self, entry: Any) -> None:
        """Refuse what the NetCDF library would take minutes, or all memory, to describe."""
        from h5py import h5o

        about = h5o.get_info(entry.id)
        self.objects += 1
        self.attributes += about.num_attrs
        # Large attributes lie in a heap, small ones in the header of what they describe.
        self.attribute_bytes += about.meta_size.attr.heap_size + about.hdr.space.total
        if self.objects > _MOST_OBJECTS or self.attributes > _MOST_ATTRIBUTES:
            raise DataError(
                f"{self.path}: it has more than {_MOST_OBJECTS:,} groups and variables, or "
                f"{_MOST_ATTRIBUTES:,} attributes, and the NetCDF library would take minutes to "
                "describe them; copy what is wanted into a file of its own"
            )
        if self.attribute_bytes > _MOST_ATTRIBUTE_BYTES:
            raise DataError(
                f"{self.path}: its attributes take more than {file_size(_MOST_ATTRIBUTE_BYTES)}, "
                "and all would have to be held in memory; keep such values as variables"
            )


def _note(entry: Any, path: Path, oddities: Oddities) -> None:
    import h5py

    name = entry.name.strip("/")
    if others := _other_files(entry, path):
        oddities.elsewhere[name] = ", ".join(others)
    try:
        dtype = entry.dtype
    except (TypeError, ValueError) as error:
        oddities.types[name] = str(error)
        return
    plain = dtype.kind in "iu" or (dtype.kind == "f" and dtype.itemsize in (4, 8))
    if not plain and h5py.check_string_dtype(dtype) is None:
        oddities.types[name] = dtype


def _other_files(entry: Any, path: Path) -> list[str]:
    """Return the files that values of a dataset lie in, besides its own."""
    if entry.is_virtual:
        names = {source.file_name for source in entry.virtual_sources()}
        return sorted(name for name in names if name not in (".", str(path), path.name))
    return [name for name, _, _ in entry.external or ()]
