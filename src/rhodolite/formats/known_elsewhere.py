"""Formats that are recognised by their first bytes and not read, so that messages name them."""

from __future__ import annotations

_TO_NETCDF = "have it converted to NetCDF where it comes from"
_TO_TABLE = "save the sheet or layer as CSV, or as GeoJSON where it holds outlines"
_SIGNATURES: tuple[tuple[bytes, str, str], ...] = (
    (b"BUFR", "a BUFR file", _TO_NETCDF),
    (b"\x0e\x03\x13\x01", "an HDF4 file", _TO_NETCDF),
    (b"\xd0\xcf\x11\xe0", "an old Excel file", "save it as .xlsx, or the sheet as CSV"),
    (b"SQLite format 3", "a database, such as a GeoPackage", _TO_TABLE),
    (b"7z\xbc\xaf\x27\x1c", "an archive of 7z", "unpack it first"),
    (b"%PDF", "a PDF document", "it holds no data"),
    (b"\x89PNG", "a picture", "it holds no data"),
)
_PAGES = (b"<!doctype", b"<html", b"<?xml")
_ERRORS = (b'{"error', b'{"message', b'{"detail')


def what_it_is(start: bytes) -> tuple[str, str] | None:
    """Return what a file is that begins with some bytes, and what to do; None where that is not
    known.

    Parameters
    ----------
    start : bytes
        Sixteen or more.
    """
    for signature, name, advice in _SIGNATURES:
        if start.startswith(signature):
            return name, advice
    text = start.lstrip().lower()
    if text.startswith((*_PAGES, *_ERRORS)):
        return (
            "a page or a message of a web server",
            "the download may have failed, or needs a login; open it in an editor",
        )
    return None
