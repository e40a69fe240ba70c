"""Addresses of object stores and web servers, and what is fetched from them."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import timedelta
from functools import cache
from pathlib import Path
from typing import Any

from rhodolite.errors import DataError
from rhodolite.formats.extras import has_extra, install_command

_STORES = ("s3", "gs", "az")
_ADDRESS = re.compile(rf"(https?|{'|'.join(_STORES)})://")
_LOST_SLASH = re.compile(rf"(https?|{'|'.join(_STORES)}):/(?!/)")
_IN_TEXT = re.compile(rf"\b({'|'.join(_STORES)}):/(?!/)")
_PIECE = 4 << 20
_TIMEOUT = timedelta(seconds=60)
_RETRIES = 6
_LONGEST = timedelta(seconds=60)
"""How long what fails for a while is asked for again."""
_KEYS_OF_S3 = (
    "AWS_ACCESS_KEY_ID",
    "AWS_PROFILE",
    "AWS_ROLE_ARN",
    "AWS_WEB_IDENTITY_TOKEN_FILE",
)


def is_address(text: str) -> bool:
    """Return whether a text names what lies elsewhere."""
    return _ADDRESS.match(text) is not None


def address_of(path: Path) -> str | None:
    """Return the address that a path was made of, which has lost a slash by that; None for all
    other paths."""
    match = _LOST_SLASH.match(str(path))
    return None if match is None else f"{match.group(1)}://{str(path)[match.end() :]}"


def is_elsewhere(folder: Path) -> bool:
    """Return whether a folder that was made whole from an output's lies in an object store."""
    return any(part == f"{scheme}:" for part in folder.parts for scheme in _STORES)


def restore_addresses(text: str) -> str:
    """Return a text in which addresses that were paths have their two slashes again."""
    return _IN_TEXT.sub(r"\1://", text)


def is_of_object_store(address: str) -> bool:
    """Return whether an address names an object store, and no web server."""
    return address.partition("://")[0] in _STORES


def open_store(place: str) -> Any:
    """Return the store at an address: a bucket or folder, or a folder of a web server.

    Credentials are those of the usual variables of the environment; without any, requests are
    anonymous.

    Raises
    ------
    DataError
        If the library is not installed, or the address cannot be understood.
    """
    if not has_extra("remote"):
        raise DataError(
            f"{place}: addresses of stores need an extra package: {install_command('remote')}"
        )
    anonymous = not any(key in os.environ for key in _KEYS_OF_S3)
    return _open_store(place, os.environ.get("AWS_ENDPOINT_URL", ""), anonymous)


@cache
def _open_store(place: str, endpoint: str, anonymous: bool) -> Any:
    import obstore

    scheme = place.partition("://")[0]
    settings: dict[str, Any] = {}
    if scheme == "s3" and anonymous:
        settings["skip_signature"] = True
    plain = scheme == "http" or endpoint.startswith("http:")
    try:
        return obstore.store.from_url(
            place,
            client_options={"allow_http": plain, "timeout": _TIMEOUT},
            retry_config={"max_retries": _RETRIES, "retry_timeout": _LONGEST},
            **settings,
        )
    except (obstore.exceptions.BaseError, ValueError) as error:
        raise DataError(f"{place}: this address cannot be used: {error}") from None


@contextmanager
def saying_what_failed(address: str, what: str = "read") -> Iterator[None]:
    """Turn what the library raises into an error that names the address, and nothing secret.

    Parameters
    ----------
    address : str
    what : str
        What is done there, in the words of the error.

    Raises
    ------
    DataError
        With what to look at.
    """
    import obstore

    known = obstore.exceptions
    try:
        yield
    except (known.NotFoundError, FileNotFoundError):
        raise DataError(f"{address}: there is nothing at this address") from None
    except (known.PermissionDeniedError, known.UnauthenticatedError, PermissionError):
        raise DataError(
            f"{address}: access is denied; credentials are taken from the usual variables of the "
            "environment, such as AWS_ACCESS_KEY_ID"
        ) from None
    except (known.BaseError, OSError, ValueError) as error:
        reason = str(error).split("\n")[0].split("Debug source:")[0].strip()
        raise DataError(f"{address}: cannot be {what}: {reason}") from None


def fetch_ranges(
    address: str, store: Any, key: str, ranges: Sequence[tuple[int, int]]
) -> list[bytes]:
    """Return parts of an object, all asked for at once; neighbours are fetched together.

    Parameters
    ----------
    address : str
        For messages.
    store : object
    key : str
    ranges : sequence of (int, int)
        First byte and length of each.

    Raises
    ------
    DataError
        If it cannot be read, or fewer bytes come than were asked for.
    """
    import obstore

    with saying_what_failed(address):
        parts = obstore.get_ranges(
            store,
            key,
            starts=[start for start, _ in ranges],
            lengths=[length for _, length in ranges],
        )
    contents = [bytes(part) for part in parts]
    for content, (start, length) in zip(contents, ranges, strict=True):
        if len(content) != length:
            raise DataError(
                f"{address}: {len(content):,} bytes came where {length:,} were asked for, at byte "
                f"{start:,}; run it again, and ask whoever serves it"
            )
    return contents


def gives_parts(address: str, store: Any, key: str) -> bool:
    """Return whether parts of an object can be asked for; some web servers give whole files alone.

    Raises
    ------
    DataError
        If it cannot be read at all.
    """
    import obstore

    with saying_what_failed(address):
        try:
            obstore.get_range(store, key, start=0, length=1)
        except obstore.exceptions.NotSupportedError:
            return False
    return True


def fetch_whole(address: str, store: Any, key: str) -> Iterator[bytes]:
    """Yield an object piece by piece.

    Raises
    ------
    DataError
        If it cannot be read.
    """
    import obstore

    with saying_what_failed(address):
        for piece in obstore.get(store, key).stream(min_chunk_size=_PIECE):
            yield bytes(piece)


def split_address(address: str) -> tuple[str, str]:
    """Return the folder that an object lies in, and its name there."""
    folder, _, name = address.rstrip("/").rpartition("/")
    return folder, name
