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

    Parameters
    ----------
    path : Path

    Raises
    ------
    DataError
        If a link leads out of the file, or a group contains itself.
    """
    import h5py

    found = Oddities()
    try:
        with LIBRARY_LOCK, h5py.File(path, "r") as file:
            _look_into(file, path, found, {h5py.h5o.get_info(file.id).addr})
    except (OSError, RuntimeError):  # damage, which whoever reads the file describes
        return found
    return found


def is_held_by_caller() -> bool:
    """Return whether the calling thread holds the lock of h5py, as while it goes through an open
    file: another thread would wait for it without end."""
    from h5py._objects import phil

    return bool(phil._is_owned())


def _look_into(group: Any, path: Path, found: Oddities, around: set[Any]) -> None:
    """Note what is odd in a group and in those inside it; `around` are those that it lies in."""
    import h5py

    for name in list(group):
        link = group.get(name, getlink=True)
        if isinstance(link, h5py.ExternalLink):
            raise DataError(
                f"{path}: '{name}' is a link to another file ({link.filename}), which nobody "
                "named; copy what is wanted into one file first"
            )
        if not isinstance(link, h5py.HardLink):
            continue
        held = group.get(name)
        if isinstance(held, h5py.Group):
            place = h5py.h5o.get_info(held.id).addr
            if place in around:
                raise DataError(f"{path}: the group '{held.name}' contains itself; export it again")
            _look_into(held, path, found, around | {place})
        elif isinstance(held, h5py.Dataset):
            _note(held, path, found)


def _note(held: Any, path: Path, found: Oddities) -> None:
    import h5py

    name = held.name.strip("/")
    if others := _other_files(held, path):
        found.elsewhere[name] = ", ".join(others)
    try:
        dtype = held.dtype
    except (TypeError, ValueError) as error:
        found.types[name] = str(error)
        return
    plain = dtype.kind in "iu" or (dtype.kind == "f" and dtype.itemsize in (4, 8))
    if not plain and h5py.check_string_dtype(dtype) is None:
        found.types[name] = dtype


def _other_files(held: Any, path: Path) -> list[str]:
    """Return the files that values of a dataset lie in, besides its own."""
    if held.is_virtual:
        names = {source.file_name for source in held.virtual_sources()}
        return sorted(name for name in names if name not in (".", str(path), path.name))
    return [name for name, _, _ in held.external or ()]
