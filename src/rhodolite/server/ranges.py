"""Parts of answers by ranges of bytes (RFC 9110, section 14), so that downloads can go on."""

from __future__ import annotations

import re

from starlette.datastructures import Headers, MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

_ONE_RANGE = re.compile(r"bytes=(\d*)-(\d*)", re.ASCII)


def bytes_asked(text: str, size: int) -> slice | None:
    """Return which bytes of so many are asked for; None where the whole is to be sent.

    Several ranges, other units and nonsense are answered with the whole, as the standard allows.

    Parameters
    ----------
    text : str
        The header `Range`.
    size : int

    Returns
    -------
    slice or None
        Empty where the range lies beyond the end.

    Examples
    --------
    >>> bytes_asked("bytes=10-19", 100), bytes_asked("bytes=-5", 100)
    (slice(10, 20, None), slice(95, 100, None))
    """
    match = _ONE_RANGE.fullmatch(text.strip())
    if match is None or not any(match.groups()):
        return None
    first, last = match.groups()
    if not first:
        return slice(max(size - int(last), 0), size)
    if last and int(last) < int(first):
        return None
    return slice(int(first), min(int(last) + 1, size) if last else size)


class Ranges:
    """Sends the part that is asked for of answers that are complete and have a tag.

    Parameters
    ----------
    app : callable
    """

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http" or scope["method"] not in ("GET", "HEAD"):
            await self._app(scope, receive, send)
            return
        asked = Headers(scope=scope)
        start: Message = {}

        async def send_part(message: Message) -> None:
            nonlocal start
            if message["type"] == "http.response.start":
                start = message
                return
            if start:
                begin, start = start, {}
                if not message.get("more_body") and _has_parts(begin):
                    begin, message = _cut(begin, message, asked, scope["method"])
                await send(begin)
            await send(message)

        await self._app(scope, receive, send_part)


def _has_parts(begin: Message) -> bool:
    headers = Headers(raw=begin["headers"])
    return begin["status"] == 200 and "etag" in headers and "content-length" in headers


def _cut(
    begin: Message, message: Message, asked: Headers, method: str
) -> tuple[Message, Message]:
    """Return the start and the body of an answer with the part that is asked for."""
    headers = MutableHeaders(raw=list(begin["headers"]))
    headers["accept-ranges"] = "bytes"
    content = message.get("body", b"")
    part = bytes_asked(asked.get("range", ""), len(content))
    # The part of another state of the data would spoil what the client has already.
    is_current = asked.get("if-range", headers["etag"]) == headers["etag"]
    if method == "HEAD" or part is None or not is_current:
        return {**begin, "headers": headers.raw}, message
    cut, status = content[part], 206
    headers["content-range"] = f"bytes {part.start}-{part.stop - 1}/{len(content)}"
    if not cut:
        status, headers["content-range"] = 416, f"bytes */{len(content)}"
    headers["content-length"] = str(len(cut))
    return (
        {**begin, "status": status, "headers": headers.raw},
        {**message, "body": cut},
    )
