"""Answers of the data protocols, and what caches are told of them."""

from __future__ import annotations

import hashlib
from typing import Any
from urllib.parse import unquote

from starlette.requests import Request
from starlette.responses import PlainTextResponse, Response, StreamingResponse

from rhodolite.server import dap, dap4, dap_constraints
from rhodolite.server.limits import Refused
from rhodolite.server.served import Served

_FIRST_BYTES = 1 << 16
"""Bytes that are there before an answer begins."""


def answer_dap(served: Served, kind: str, constraint: str, *, head: bool) -> Response:
    headers = {**dap.HEADERS, **caching_headers(served)}
    if kind == "das":
        return PlainTextResponse(
            dap.write_das(served),
            headers={**headers, "content-description": "dods-das"},
        )
    if kind == "ver":
        return PlainTextResponse("Core version: dods/3.2\n", headers=headers)
    if kind not in ("dds", "dods", "ascii", "asc"):
        raise Refused(
            404,
            "write .dds for the structure, .das for attributes, .dods or .ascii for values; "
            ".dmr and .dap are those of version 4",
        )
    projections = dap_constraints.parse_constraint(served, constraint)
    if kind == "dds":
        text = dap.write_dds(served, projections)
        return PlainTextResponse(
            text, headers={**headers, "content-description": "dods-dds"}
        )
    media = "application/octet-stream" if kind == "dods" else "text/plain"
    if head:  # nothing is computed of which only the headers are wanted
        return Response(media_type=media, headers=headers)
    if kind == "dods":
        return StreamingResponse(
            _started(dap.write_data(served, projections)),
            media_type=media,
            headers={**headers, "content-description": "dods-data"},
        )
    return StreamingResponse(
        _started(dap.write_text(served, projections)), media_type=media, headers=headers
    )


def answer_dap4(request: Request, served: Served, kind: str) -> Response:
    headers = caching_headers(served)
    # Not as a form has it: a plus sign in a name is one.
    pairs = [part.partition("=") for part in request.url.query.split("&")]
    asked = {unquote(name): unquote(value) for name, _, value in pairs}
    chosen = dap4.parse_constraint(served, asked.get("dap4.ce", ""))
    if kind == "dmr":
        text = dap4.write_metadata(served, chosen)
        return Response(text, media_type=dap4.MEDIA["dmr"], headers=headers)
    if request.method == "HEAD":
        return Response(media_type=dap4.MEDIA["dap"], headers=headers)
    checksums = asked.get("dap4.checksum", "true").lower() not in ("false", "0")
    pieces = dap4.write_data(served, chosen, checksums=checksums)
    return StreamingResponse(
        _started(pieces), media_type=dap4.MEDIA["dap"], headers=headers
    )


def _started(pieces: Any) -> Any:
    """Return an iterator of which the first values are there, so that what is refused is refused
    before an answer has begun, and short answers are complete before that."""
    first: list[bytes] = []
    while sum(map(len, first)) < _FIRST_BYTES:
        piece = next(pieces, None)
        if piece is None:
            break
        first.append(piece)

    def all_of_it() -> Any:
        yield from first
        yield from pieces

    return all_of_it()


def tag_of(content: bytes) -> str:
    return f'"{hashlib.sha256(content).hexdigest()[:32]}"'


def caching_headers(served: Served) -> dict[str, str]:
    return {
        "etag": f'"{served.version}"',
        "last-modified": served.last_modified,
        "cache-control": "no-cache",
    }


def answer_unchanged(request: Request, served: Served) -> Response | None:
    """Return the answer to who has asked before, where nothing has changed."""
    given = [tag.strip() for tag in request.headers.get("if-none-match", "").split(",")]
    since = request.headers.get("if-modified-since")
    known = f'"{served.version}"' in given or "*" in given
    if known or (
        not any(given) and since is not None and since == served.last_modified
    ):
        return Response(status_code=304, headers=caching_headers(served))
    return None
