"""The formats there are, found by the look of a file or by the suffix of an output."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache
from importlib import import_module
from pathlib import Path

from rhodolite import extensions
from rhodolite.arrays import Engine
from rhodolite.errors import DataError, UsageError, nearest_names, warn
from rhodolite.extensions import find_extensions, load_extension
from rhodolite.formats.atomic_output import OutputKind, is_store
from rhodolite.formats.extras import need_extra
from rhodolite.formats.known_elsewhere import what_it_is
from rhodolite.formats.layout import USUAL_LAYOUT, Compression, Layout
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
        What its files begin with, in small letters; none where only the suffix tells.
    module : str
        Where its `read` and `write` live; imported when first needed.
    grouped : bool
        Whether its files can hold groups.
    kind : OutputKind
        Whether a dataset is one file, a folder or many files.
    variants : tuple of str
        What `--format` can ask for; the first is the usual one.
    chunked : bool
        Whether its arrays are stored in chunks.
    writable : bool
    also_read : tuple of str
        Suffixes of files that are read, and not written.
    tabular : bool
        Whether it holds rows and columns.
    by_parts : bool
        Whether its files are read by parts where they lie elsewhere, and not fetched as a whole.
    extra : str
        The part of the installation that it needs; empty where that is none.
    """

    name: str
    suffixes: tuple[str, ...]
    signatures: tuple[bytes, ...]
    module: str
    grouped: bool = False
    kind: OutputKind = OutputKind.FILE
    variants: tuple[str, ...] = ()
    chunked: bool = False
    writable: bool = True
    also_read: tuple[str, ...] = ()
    tabular: bool = False
    by_parts: bool = False
    extra: str = ""

    def has_suffix_of(self, path: Path) -> bool:
        """Return whether a file is named as one of this format."""
        return path.name.lower().endswith((*self.suffixes, *self.also_read))

    def read(self, path: Path, group: str | None = None) -> Dataset:
        if self.extra:
            need_extra(self.extra, path, self.name)
        if group is None:
            return import_module(self.module).read(path)  # type: ignore[no-any-return]
        if not self.grouped:
            raise DataError(
                f"{path}: a {self.name} file has no groups; leave out the group '{group}'"
            )
        return import_module(self.module).read(path, group)  # type: ignore[no-any-return]

    def write(
        self,
        dataset: Dataset,
        path: Path,
        engine: Engine,
        layout: Layout = USUAL_LAYOUT,
    ) -> None:
        import_module(self.module).write(dataset, path, engine, layout)


_GZIP = b"\x1f\x8b"
_ZSTANDARD = b"\x28\xb5\x2f\xfd"
FORMATS = (
    Format(
        "NetCDF",
        (".nc", ".nc4", ".cdf"),
        (b"\x89hdf\r\n\x1a\n", b"cdf\x01", b"cdf\x02", b"cdf\x05"),
        "rhodolite.formats.netcdf",
        grouped=True,
        variants=(
            "netcdf4",
            "netcdf4-classic",
            "netcdf3-classic",
            "netcdf3-64bit",
            "netcdf3-64bit-data",
        ),
        chunked=True,
        by_parts=True,
    ),
    Format(
        "Zarr",
        (".zarr",),
        (),
        "rhodolite.formats.zarr",
        grouped=True,
        kind=OutputKind.FOLDER,
        variants=("zarr3", "zarr2"),
        chunked=True,
    ),
    Format(
        "CSV",
        (".csv", ".tsv", ".csv.gz", ".tsv.gz"),
        (),
        "rhodolite.formats.text.csv",
        also_read=(".txt", ".dat", ".txt.gz"),
        tabular=True,
    ),
    Format(
        "Parquet",
        (".parquet",),
        (b"par1",),
        "rhodolite.formats.tables.parquet",
        tabular=True,
        extra="tables",
    ),
    Format(
        "Esri ASCII grid",
        (".asc",),
        (b"ncols", b"nrows"),
        "rhodolite.formats.text.ascii_grid",
        kind=OutputKind.MANY,
    ),
    Format(
        "GRIB",
        (".grib", ".grib2", ".grb", ".grb2", ".grib1"),
        (b"grib",),
        "rhodolite.formats.grib",
        grouped=True,
        writable=False,
        extra="grib",
    ),
    Format(
        "GeoTIFF",
        (".tif", ".tiff"),
        (b"ii*\x00", b"mm\x00*", b"ii+\x00", b"mm\x00+"),
        "rhodolite.formats.geotiff",
        extra="geotiff",
    ),
    Format(
        "collection", (".toml",), (), "rhodolite.formats.collection", writable=False
    ),
)
COLLECTION = FORMATS[-1]
COMPRESSED = Format(
    "compressed file or archive",
    (".gz", ".bz2", ".xz", ".zst", ".zip", ".tar", ".tgz"),
    (_ZSTANDARD, b"bzh", b"\xfd7zxz\x00", b"pk\x03\x04", b"pk\x05\x06", _GZIP),
    "rhodolite.formats.compressed",
    grouped=True,
    writable=False,
)
TAR_MARK, TAR_MARK_AT = b"ustar", 257
"""By which an archive of tar says that it is one, and where (POSIX.1)."""


@cache
def formats_elsewhere() -> list[Format]:
    """Return the formats that other packages offer, with a warning of those that cannot be
    loaded."""
    offered = []
    for name in find_extensions(extensions.FORMATS):
        try:
            offered.append(load_extension(extensions.FORMATS, name, Format))
        except UsageError as error:
            warn(str(error))
    return offered


def _all_formats() -> Iterator[Format]:
    """Yield the formats there are; other packages are asked only where none of ours was taken."""
    yield from FORMATS
    yield from formats_elsewhere()


def format_of(path: Path) -> Format:
    """Return the format of a file or folder, identified by its first bytes, or by its suffix where
    these do not identify it.

    Raises
    ------
    DataError
        If the file is empty or in no format that can be read.
    """
    if path.is_dir():
        return next(known for known in FORMATS if known.kind is OutputKind.FOLDER)
    with path.open("rb") as file:
        start = file.read(TAR_MARK_AT + len(TAR_MARK))
    if not start:
        raise DataError(f"{path}: the file is empty")
    # What text begins with says less than a suffix, and a heading may come before a first message.
    for identify in (_by_signature, _by_suffix_of_text, _as_compressed, _by_inner_mark):
        chosen = identify(path, start)
        if chosen is not None:
            return chosen
    known = what_it_is(start)
    if known is not None:
        raise DataError(f"{path}: this is {known[0]}, which is not read; {known[1]}")
    offered = ", ".join(
        f"{f.name} ({' '.join((*f.suffixes, *f.also_read))})" for f in known_formats()
    )
    raise DataError(
        f"{path}: this is not a gridded dataset (it begins with {start[:8]!r}). Can be read: "
        f"{offered}."
    )


def _by_signature(path: Path, start: bytes) -> Format | None:  # noqa: ARG001
    begins = start.lower().lstrip()
    return next((f for f in _all_formats() if begins.startswith(f.signatures)), None)


def _by_suffix_of_text(path: Path, start: bytes) -> Format | None:
    if b"\0" in start[:16] and not start.startswith(_GZIP):
        return None
    unmarked = (f for f in _all_formats() if not f.signatures)
    return next((f for f in unmarked if f.has_suffix_of(path)), None)


def _as_compressed(path: Path, start: bytes) -> Format | None:  # noqa: ARG001
    return COMPRESSED if _is_compressed(start) else None


def _by_inner_mark(path: Path, start: bytes) -> Format | None:
    fitting = (f for f in _all_formats() if f.has_suffix_of(path))
    begins = start.lower()
    return next((f for f in fitting if any(m in begins for m in f.signatures)), None)


def _is_compressed(start: bytes) -> bool:
    """Return whether a file begins as one that is compressed as a whole, or as an archive."""
    return (
        start.lower().startswith(COMPRESSED.signatures)
        or start[TAR_MARK_AT:] == TAR_MARK
    )


def format_for(path: Path, layout: Layout | None = None) -> Format:
    """Return the format to write, identified by the suffix of the output.

    Raises
    ------
    UsageError
        If no format has the suffix, or it cannot be written as the layout asks.
    """
    name = path.name.lower()
    writable = (candidate for candidate in _all_formats() if candidate.writable)
    chosen = next(
        (candidate for candidate in writable if name.endswith(candidate.suffixes)), None
    )
    if chosen is None:
        offered = ", ".join(
            ending for f in _all_formats() if f.writable for ending in f.suffixes
        )
        given = f"the suffix '{path.suffix}'" if path.suffix else "no suffix"
        raise UsageError(
            f"{path}: {given} names no format to write a dataset in. Use one of {offered}."
        )
    if chosen.extra:
        need_extra(chosen.extra, path, chosen.name)
    if layout is not None:
        _check_layout(path, chosen, layout)
    return chosen


def known_formats() -> list[Format]:
    """Return all formats, those of other packages included."""
    return [*_all_formats(), COMPRESSED]


def _check_layout(path: Path, chosen: Format, layout: Layout) -> None:
    if layout.variant is not None and layout.variant not in chosen.variants:
        _refuse_variant(path, layout.variant)
    if layout.unlimited and chosen.name != "NetCDF":
        raise UsageError(
            f"{path}: --unlimited is for NetCDF; in {chosen.name} nothing keeps a dimension from "
            "growing"
        )
    settings = layout.table.settings().items()
    of_tables = [name for name, value in settings if value is not None]
    if of_tables and not chosen.tabular:
        raise UsageError(
            f"{path}: --{of_tables[0]} is for tables (.csv), and this is {chosen.name}"
        )
    of_chunks = _options_of_chunks(layout)
    if of_chunks and not (chosen.chunked and layout.in_chunks):
        raise UsageError(
            f"{path}: --{of_chunks[0]} is for NetCDF-4 and Zarr, and not for "
            f"{layout.variant or chosen.name}"
        )


def _options_of_chunks(layout: Layout) -> list[str]:
    """Return the options about chunks that are given."""
    given = {
        "chunks": layout.chunks is not None,
        "compression": layout.compression is not Compression.FAST,
        "no-checksums": not layout.checksums,
    }
    return [option for option, is_given in given.items() if is_given]


def _refuse_variant(path: Path, variant: str) -> None:
    """Refuse a variant that is of another format, or that there is not."""
    owner = next((listed for listed in FORMATS if variant in listed.variants), None)
    if owner is not None:
        raise UsageError(
            f"{path}: --format {variant} is for files that end in {' '.join(owner.suffixes)}"
        )
    known = [name for listed in FORMATS for name in listed.variants]
    raise UsageError(
        f"--format: there is no '{variant}'. {nearest_names(variant, known)}"
    )


__all__ = ["COLLECTION", "FORMATS", "Format", "format_for", "format_of", "is_store"]
