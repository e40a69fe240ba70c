"""From an address to what it names: a file or store elsewhere, or what a DAP2 server offers."""

from __future__ import annotations

from dataclasses import replace

from rhodolite.errors import DataError
from rhodolite.formats.extras import has_extra
from rhodolite.formats.mirrored.hdf5_header import fetch_header
from rhodolite.formats.mirrored.mirror import Mirror, mirror_file
from rhodolite.formats.mirrored.mirrored_store import mirror_store
from rhodolite.formats.netcdf.netcdf3_header import is_classic
from rhodolite.formats.netcdf.reader import read_remote
from rhodolite.formats.registry import format_of
from rhodolite.formats.stores.object_stores import is_of_object_store
from rhodolite.model.dataset import Dataset

_START = 1024
"""Bytes by which a file is told from a page or an error of a server."""
_CLASSIC_HEADER = 8 << 20
"""Bytes in which the header of a NetCDF-3 file lies."""
_STORE = ".zarr"


def read_address(address: str, group: str | None) -> Dataset:
    """Open what lies at an address.

    A file that a web server gives out is read by its parts; what is no such file is asked for over
    DAP2.

    Raises
    ------
    DataError
        If there is nothing that can be read.
    """
    if "?" in address or not (is_of_object_store(address) or has_extra("remote")):
        return read_remote(address)
    name = address.rstrip("/").rpartition("/")[2]
    if name.endswith(_STORE):
        folder = mirror_store(address)
        if folder is None:
            raise DataError(f"{address}: there is no Zarr store at this address")
        return _named(format_of(folder).read(folder, group), address)
    if is_of_object_store(address):
        return _read_file(mirror_file(address), group)
    try:
        mirror = mirror_file(address)
        mirror.fetch([(0, min(_START, mirror.size))])
        format_of(mirror.path)
    except DataError:
        return read_remote(address)
    return _read_file(mirror, group)


def _read_file(mirror: Mirror, group: str | None) -> Dataset:
    """Open a file of which parts are fetched: of NetCDF when they are needed, of others all."""
    mirror.fetch_blocks(0, min(_START, mirror.size))
    kind = format_of(mirror.path)
    if not kind.by_parts:
        mirror.fetch_all()
    elif is_classic(mirror.path):
        mirror.fetch_blocks(0, min(_CLASSIC_HEADER, mirror.size))
    else:
        fetch_header(mirror)
    return _named(kind.read(mirror.path, group), mirror.address)


def _named(dataset: Dataset, address: str) -> Dataset:
    """Return a dataset whose files are named by where they lie."""
    files = tuple(replace(file, address=address) for file in dataset.files)
    return replace(dataset, files=files)
