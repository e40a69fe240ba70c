"""What holds for all requests: reading only, safe headers, a log, counts, compression, prefixes."""

from __future__ import annotations

import json
import math
import os
import re
import threading
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path

from numcodecs.zstd import compress
from starlette.datastructures import Headers, MutableHeaders
from starlette.middleware.gzip import GZipMiddleware
from starlette.responses import PlainTextResponse, Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from rhodolite.plain_text import cut_text, file_size, make_visible
from rhodolite.server.gate import CALLER

_POLICY = (
    "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "
    "base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
)
_ALWAYS = {
    "content-security-policy": _POLICY,
    "x-content-type-options": "nosniff",
    "referrer-policy": "no-referrer",
    "access-control-allow-origin": "*",
    "access-control-expose-headers": "etag, last-modified, xdods-server, content-description, "
    "accept-ranges, content-range",
}
_PREFLIGHT = {
    "access-control-allow-methods": "GET, HEAD",
    "access-control-allow-headers": "*",
    "access-control-max-age": "86400",
}
_PREFIX = re.compile(r"(?:/[\w.~-]+)*")
_IN_TEXT = ("/edr", "/static", "/view", "/datasets")
"""Addresses whose answers are mostly text; pictures and chunks are compressed already."""
_SMALLEST = 1024
_TELL_AFTER = 1.0
"""Seconds between two times at which a process tells the others what it has counted."""
_ZSTD_LEVEL = 3
_LEVEL = 5
"""Of gzip: higher ones take long and save little."""


class Guard:
    """Lets through reading only, notes who asks, and adds the headers that every answer has.

    Parameters
    ----------
    app : callable
        What answers.
    """

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        allowed = {"allow": "GET, HEAD, OPTIONS", **_ALWAYS}
        if scope["method"] == "OPTIONS":  # by which browsers ask whether they may
            await Response(status_code=204, headers={**allowed, **_PREFLIGHT})(
                scope, receive, send
            )
            return
        if scope["method"] not in ("GET", "HEAD"):
            said = f"{scope['method']} is not allowed; data are only read here\n"
            await PlainTextResponse(said, 405, allowed)(scope, receive, send)
            return

        async def send_with_headers(message: Message) -> None:
            if message["type"] == "http.response.start":
                added = [
                    (key.encode(), value.encode()) for key, value in _ALWAYS.items()
                ]
                message["headers"] = [*message["headers"], *added]
            await send(message)

        client = scope.get("client")
        CALLER.set(client[0] if client else "")
        await self._app(scope, receive, send_with_headers)


class Compress:
    """Compresses answers in text for those who take it.

    Parameters
    ----------
    app : callable
    """

    def __init__(self, app: ASGIApp) -> None:
        self._plain = app
        self._packed = GZipMiddleware(app, minimum_size=_SMALLEST, compresslevel=_LEVEL)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        path = scope.get("path", "").removeprefix(scope.get("root_path", ""))
        in_text = path == "/" or path.startswith(_IN_TEXT)
        # Ranges count the bytes of the answer as it is.
        by_range = b"range" in dict(scope.get("headers", ()))
        if not in_text or by_range:
            await self._plain(scope, receive, send)
        elif "zstd" in Headers(scope=scope).get("accept-encoding", ""):
            await self._plain(scope, receive, _Zstd(send))
        else:
            await self._packed(scope, receive, send)


class _Zstd:
    """Passes on an answer, compressed by Zstandard (RFC 8878) if it is complete and not short.

    Parameters
    ----------
    send : callable
    """

    def __init__(self, send: Send) -> None:
        self._send = send
        self._start: Message = {}

    async def __call__(self, message: Message) -> None:
        if message["type"] == "http.response.start":
            self._start = message
            return
        if self._start:
            start, self._start = self._start, {}
            content = message.get("body", b"")
            if not message.get("more_body") and len(content) >= _SMALLEST:
                headers = MutableHeaders(raw=list(start["headers"]))
                packed = compress(content, _ZSTD_LEVEL)
                headers["content-encoding"] = "zstd"
                headers["content-length"] = str(len(packed))
                headers.add_vary_header("Accept-Encoding")
                start = {**start, "headers": headers.raw}
                message = {**message, "body": packed}
            await self._send(start)
        await self._send(message)


class Prefix:
    """Lets the server lie below another address: what it links to begins with the prefix that a
    proxy says, or with that it was started with.

    Parameters
    ----------
    app : callable
    base_path : str
        Such as ``/data``.
    """

    def __init__(self, app: ASGIApp, base_path: str = "") -> None:
        self._app, self._base_path = app, base_path

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "http":
            said = (
                dict(scope["headers"]).get(b"x-forwarded-prefix", b"").decode("latin-1")
            )
            said = said.rstrip("/")
            prefix = said if said and _PREFIX.fullmatch(said) else self._base_path
            scope = {**scope, "root_path": prefix}
        await self._app(scope, receive, send)


class Counts:
    """How many requests of each kind were answered, and how, since the server began.

    Parameters
    ----------
    folder : Path, optional
        Where the processes of one server tell each other what they have counted.
    """

    def __init__(self, folder: Path | None = None) -> None:
        self._lock = threading.Lock()
        self._folder = folder
        self._told = -math.inf
        self._answers: Counter[tuple[str, int]] = Counter()
        self._seconds: Counter[str] = Counter()
        self._bytes: Counter[str] = Counter()

    def add(self, path: str, status: int, nbytes: int, seconds: float) -> None:
        """Take in one answer.

        Parameters
        ----------
        path : str
        status : int
        nbytes : int
        seconds : float
        """
        kind = path.split("/")[1] if "/" in path else ""
        kind = (
            kind if f"/{kind}" in (*_IN_TEXT, "/dap", "/zarr", "/wms", "/") else "other"
        )
        with self._lock:
            self._answers[kind or "index", status] += 1
            self._seconds[kind or "index"] += seconds  # type: ignore[assignment]
            self._bytes[kind or "index"] += nbytes
            if time.monotonic() - self._told >= _TELL_AFTER:
                self._tell()

    def _tell(self) -> None:
        """Leave what this process has counted for the others."""
        if self._folder is None:
            return
        self._told = time.monotonic()
        counted = [list(self._answers.items()), self._seconds, self._bytes]
        place = self._folder / f"{os.getpid()}.json"
        hidden = place.with_suffix(".part")
        hidden.write_text(json.dumps(counted))
        hidden.replace(place)

    def _of_all(self) -> tuple[Counter[tuple[str, int]], Counter[str], Counter[str]]:
        """Return what all processes of the server have counted."""
        if self._folder is None:
            return self._answers, self._seconds, self._bytes
        self._tell()
        answers: Counter[tuple[str, int]] = Counter()
        seconds: Counter[str] = Counter()
        sizes: Counter[str] = Counter()
        for path in self._folder.glob("*.json"):
            some, times, lengths = json.loads(path.read_text())
            answers.update({(kind, status): n for (kind, status), n in some})
            seconds.update(times)
            sizes.update(lengths)
        return answers, seconds, sizes

    def write(self) -> str:
        """Return the counts in the text format of OpenMetrics 1.0."""
        with self._lock:
            answers, seconds, sizes = (sorted(part.items()) for part in self._of_all())
        lines = ["# TYPE rhodolite_requests counter"]
        lines += [
            f'rhodolite_requests_total{{kind="{kind}",status="{status}"}} {count}'
            for (kind, status), count in answers
        ]
        for name, unit, counted in (
            ("request_seconds", "seconds", seconds),
            ("response_bytes", "bytes", sizes),
        ):
            lines += [
                f"# TYPE rhodolite_{name} counter",
                f"# UNIT rhodolite_{name} {unit}",
            ]
            lines += [
                f'rhodolite_{name}_total{{kind="{kind}"}} {count}'
                for kind, count in counted
            ]
        return "\n".join([*lines, "# EOF"]) + "\n"


class Log:
    """Counts each request, and says a line about it.

    Parameters
    ----------
    app : callable
        What answers.
    counts : Counts
    say : callable, optional
        Takes a line.
    """

    def __init__(
        self, app: ASGIApp, counts: Counts, say: Callable[[str], None] | None
    ) -> None:
        self._app, self._counts, self._say = app, counts, say

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        began, status, sent = time.monotonic(), 0, 0

        async def count(message: Message) -> None:
            nonlocal status, sent
            status = message.get("status", status)
            sent += len(message.get("body", b""))
            await send(message)

        try:
            await self._app(scope, receive, count)
        finally:
            took = time.monotonic() - began
            self._counts.add(scope["path"], status, sent, took)
            if self._say is not None:
                self._say(_line(scope, status, sent, took))


def _line(scope: Scope, status: int, sent: int, seconds: float) -> str:
    client = scope.get("client")
    query = scope.get("query_string", b"").decode("latin-1")
    path = cut_text(make_visible(scope["path"] + ("?" + query if query else "")), 300)
    caller = client[0] if client else "-"
    answer = f"{status or 'gone'} {file_size(sent)} {1000 * seconds:.0f} ms"
    return f"{caller} {scope['method']} {path} {answer}"
