"""What an HDF5 file holds that lies in other files: external storage, virtual datasets and external
links. Whoever made the file chose these, and nobody named them, so they are not read."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from rhodolite.errors import DataError
from rhodolite.formats.netcdf.file_cache import LIBRARY_LOCK


def find_elsewhere(path: Path) -> dict[str, str]:
    """Return the variables of a file whose values lie in others, with these; by their names, with
    the groups that they lie in.

    Parameters
    ----------
    path : Path

    Raises
    ------
    DataError
        If a link leads out of the file, or a group contains itself.
    """
    import h5py

    found: dict[str, str] = {}
    try:
        with LIBRARY_LOCK, h5py.File(path, "r") as file:
            _look_into(file, path, found, {h5py.h5o.get_info(file.id).addr})
    except (OSError, RuntimeError):  # damage, which whoever reads the file describes
        return found
    return found


def _look_into(group: Any, path: Path, found: dict[str, str], seen: set[Any]) -> None:
    """Note what lies elsewhere in a group and in those inside it; `seen` are those it lies in."""
    import h5py

    for name in group:
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
            if place in seen:  # which the NetCDF library does not survive
                raise DataError(f"{path}: the group '{held.name}' contains itself; export it again")
            _look_into(held, path, found, seen | {place})
        elif isinstance(held, h5py.Dataset) and (others := _other_files(held, path)):
            found[held.name.strip("/")] = ", ".join(others)


def _other_files(held: Any, path: Path) -> list[str]:
    """Return the files that values of a dataset lie in, besides its own."""
    if held.is_virtual:
        names = {source.file_name for source in held.virtual_sources()}
        return sorted(name for name in names if name not in (".", str(path), path.name))
    return [name for name, _, _ in held.external or ()]
