"""The web application: protocols under their addresses, and what holds for all of them."""

from __future__ import annotations

import time
from collections.abc import AsyncIterator, Callable, Mapping
from contextlib import asynccontextmanager
from http import HTTPStatus
from typing import Any
from urllib.parse import unquote

from anyio import to_thread
from starlette.applications import Starlette
from starlette.exceptions import HTTPException
from starlette.middleware import Middleware
from starlette.requests import Request
from starlette.responses import JSONResponse, PlainTextResponse, Response, StreamingResponse
from starlette.routing import Route
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from rhodolite.errors import RhodoliteError
from rhodolite.plain_text import cut_text, file_size, make_visible
from rhodolite.server import dap, edr, wms, zarr_store
from rhodolite.server.connections import MOST_OPEN
from rhodolite.server.edr import Collection
from rhodolite.server.gate import CALLER
from rhodolite.server.layers import Fields
from rhodolite.server.limits import Refused
from rhodolite.server.page import write_index, write_page
from rhodolite.server.served import Served
from rhodolite.server.view import describe_view, need_layers, static_file
from rhodolite.server.wms import Maps

_POLICY = (
    "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "
    "base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
)
_ALWAYS = {
    "content-security-policy": _POLICY,
    "x-content-type-options": "nosniff",
    "referrer-policy": "no-referrer",
    "access-control-allow-origin": "*",
    "access-control-expose-headers": "etag, last-modified, xdods-server, content-description",
}
Answer = Callable[[Request], Response]


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
        if scope["method"] not in ("GET", "HEAD"):
            refused = PlainTextResponse(
                f"{scope['method']} is not allowed; data are only read here\n",
                405,
                {"allow": "GET, HEAD", **_ALWAYS},
            )
            await refused(scope, receive, send)
            return

        async def send_with_headers(message: Message) -> None:
            if message["type"] == "http.response.start":
                added = [(key.encode(), value.encode()) for key, value in _ALWAYS.items()]
                message["headers"] = [*message["headers"], *added]
            await send(message)

        client = scope.get("client")
        CALLER.set(client[0] if client else "")
        await self._app(scope, receive, send_with_headers)


class Log:
    """Says one line for each request.

    Parameters
    ----------
    app : callable
        What answers.
    say : callable
        Takes a line.
    """

    def __init__(self, app: ASGIApp, say: Callable[[str], None]) -> None:
        self._app = app
        self._say = say

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
            query = scope.get("query_string", b"").decode("latin-1")
            path = cut_text(make_visible(scope["path"] + ("?" + query if query else "")), 300)
            took = 1000 * (time.monotonic() - began)
            size = file_size(sent)
            self._say(f"{scope['method']} {path} {status or 'gone'} {size} {took:.0f} ms")


def make_app(
    datasets: Mapping[str, Served],
    memory: int = 256 << 20,
    say: Callable[[str], None] | None = None,
) -> Starlette:
    """Return the application for datasets by name.

    Parameters
    ----------
    datasets : mapping of str to Served
    memory : int
        Bytes that decoded fields may take.
    say : callable, optional
        What is told a line for each request.
    """
    site = _Site(datasets, memory)
    routes = [
        Route("/", site.index),
        Route("/datasets", site.listing),
        Route("/dap/{name}.{kind}", site.dap),
        Route("/dap/{name}", site.dap),
        Route("/zarr/{name}/{path:path}", site.zarr),
        Route("/wms/{name}", site.wms),
        Route("/view/{name}.json", site.view_data),
        Route("/view/{name}", site.view),
        Route("/static/{path:path}", site.static),
        Route("/edr", site.edr),
        Route("/edr/conformance", site.edr),
        Route("/edr/collections", site.edr),
        Route("/edr/collections/{name}", site.edr),
        Route("/edr/collections/{name}/{query}", site.edr),
    ]
    return Starlette(
        routes=routes,
        middleware=[*([Middleware(Log, say)] if say is not None else []), Middleware(Guard)],
        exception_handlers={Exception: _answer_crash, HTTPException: _answer_missing},
        lifespan=_give_threads,
    )


@asynccontextmanager
async def _give_threads(_: Starlette) -> AsyncIterator[None]:
    """Let each connection wait for its turn in a thread of its own, so that one caller's cannot
    leave others without any."""
    to_thread.current_default_thread_limiter().total_tokens = MOST_OPEN
    yield


class _Site:
    """Answers for all datasets of a server."""

    def __init__(self, datasets: Mapping[str, Served], memory: int) -> None:
        self._datasets = datasets
        self._fields = Fields(memory)
        self._maps: dict[str, Maps] = {}
        self._collections: dict[str, Collection] = {}

    def index(self, request: Request) -> Response:  # noqa: ARG002
        return Response(write_index(self._datasets), media_type="text/html")

    def listing(self, request: Request) -> Response:  # noqa: ARG002
        return JSONResponse(
            [{"name": name, "title": entry.title} for name, entry in self._datasets.items()]
        )

    def dap(self, request: Request) -> Response:
        kind = request.path_params.get("kind", "")
        try:
            served = self._find(request)
            if unchanged := _unchanged(request, served):
                return unchanged
            head = request.method == "HEAD"
            return _answer_dap(served, kind, unquote(request.url.query), head=head)
        except RhodoliteError as error:
            status = error.status if isinstance(error, Refused) else 500
            return PlainTextResponse(
                dap.write_error(status, str(error)),
                status,
                {**dap.HEADERS, "content-description": "dods-error"},
            )

    def zarr(self, request: Request) -> Response:
        try:
            served = self._find(request)
            if unchanged := _unchanged(request, served):
                return unchanged
            content, media = zarr_store.answer(served, request.path_params["path"])
        except RhodoliteError as error:
            return _plain_error(error)
        return Response(content, media_type=media, headers=_caching(served))

    def wms(self, request: Request) -> Response:
        parameters = dict(request.query_params)
        try:
            served = self._find(request)
            if unchanged := _unchanged(request, served):
                return unchanged
            address = str(request.url.replace(query=""))
            content, media = self._maps_of(served).answer(parameters, address)
        except RhodoliteError as error:
            refused = error if isinstance(error, Refused) else Refused(500, str(error))
            version = wms.version_of(parameters)
            return Response(
                wms.write_error(refused, version), refused.status, media_type="text/xml"
            )
        return Response(content, media_type=media, headers=_caching(served))

    def view(self, request: Request) -> Response:
        try:
            served = self._find(request)
            need_layers(self._maps_of(served))
        except RhodoliteError as error:
            return _plain_error(error)
        page = write_page("view.html", name=served.name, title=served.title)
        return Response(page, media_type="text/html")

    def view_data(self, request: Request) -> Response:
        try:
            served = self._find(request)
            return JSONResponse(describe_view(self._maps_of(served)), headers=_caching(served))
        except RhodoliteError as error:
            return _problem(error)

    def static(self, request: Request) -> Response:
        try:
            content, media = static_file(request.path_params["path"])
        except RhodoliteError as error:
            return _plain_error(error)
        return Response(content, media_type=media, headers={"cache-control": "max-age=3600"})

    def edr(self, request: Request) -> Response:
        own = request.url.path
        address = str(request.base_url).rstrip("/") + "/edr"
        try:
            if own == "/edr":
                return JSONResponse(edr.landing(address))
            if own == "/edr/conformance":
                return JSONResponse(edr.conformance())
            if own == "/edr/collections":
                held = [self._collection_of(one).describe(address) for one in self._all()]
                return JSONResponse({"links": [], "collections": held})
            served = self._find(request)
            if unchanged := _unchanged(request, served):
                return unchanged
            collection = self._collection_of(served)
            query = request.path_params.get("query")
            if query is None:
                return JSONResponse(collection.describe(address))
            content, media = collection.query(query, dict(request.query_params))
        except RhodoliteError as error:
            return _problem(error)
        return Response(content, media_type=media, headers=_caching(served))

    def _all(self) -> list[Served]:
        return list(self._datasets.values())

    def _collection_of(self, served: Served) -> Collection:
        known = self._collections.get(served.name)
        if known is None or known.served is not served:
            known = self._collections[served.name] = Collection(served)
        return known

    def _maps_of(self, served: Served) -> Maps:
        known = self._maps.get(served.name)
        if known is None or known.served is not served:
            known = self._maps[served.name] = Maps(served, self._fields)
        return known

    def _find(self, request: Request) -> Served:
        name = request.path_params["name"]
        if name not in self._datasets:
            raise Refused(404, f"there is no dataset '{name}' here; / lists them")
        return self._datasets[name]


def _answer_dap(served: Served, kind: str, constraint: str, *, head: bool) -> Response:
    headers = {**dap.HEADERS, **_caching(served)}
    if kind == "das":
        return PlainTextResponse(
            dap.write_das(served), headers={**headers, "content-description": "dods-das"}
        )
    if kind == "ver":
        return PlainTextResponse("Core version: dods/3.2\n", headers=headers)
    if kind not in ("dds", "dods", "ascii", "asc"):
        raise Refused(
            404, "write .dds for the structure, .das for attributes, .dods or .ascii for values"
        )
    projections = dap.parse_constraint(served, constraint)
    if kind == "dds":
        text = dap.write_dds(served, projections)
        return PlainTextResponse(text, headers={**headers, "content-description": "dods-dds"})
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


def _started(pieces: Any) -> Any:
    """Return an iterator of which the first values are there, so that what is refused is refused
    before an answer has begun."""
    first = [next(pieces)]
    first += [piece for piece in [next(pieces, None)] if piece is not None]

    def all_of_it() -> Any:
        yield from first
        yield from pieces

    return all_of_it()


def _caching(served: Served) -> dict[str, str]:
    return {
        "etag": f'"{served.version}"',
        "last-modified": served.last_modified,
        "cache-control": "no-cache",
    }


def _unchanged(request: Request, served: Served) -> Response | None:
    """Return the answer to who has asked before, where nothing has changed."""
    given = [tag.strip() for tag in request.headers.get("if-none-match", "").split(",")]
    since = request.headers.get("if-modified-since")
    known = f'"{served.version}"' in given or "*" in given
    if known or (not any(given) and since is not None and since == served.last_modified):
        return Response(status_code=304, headers=_caching(served))
    return None


def _plain_error(error: RhodoliteError) -> Response:
    status = error.status if isinstance(error, Refused) else 500
    return PlainTextResponse(f"{error}\n", status)


def _problem(error: RhodoliteError) -> Response:
    """Return an error as problem details (RFC 9457)."""
    status = error.status if isinstance(error, Refused) else 500
    problem = {"type": "about:blank", "title": HTTPStatus(status).phrase, "status": status}
    media = "application/problem+json"
    return JSONResponse({**problem, "detail": str(error)}, status, media_type=media)


def _answer_missing(request: Request, error: Exception) -> Response:  # noqa: ARG001
    status = error.status_code if isinstance(error, HTTPException) else 500
    return PlainTextResponse("there is nothing here; / lists the datasets\n", status)


def _answer_crash(request: Request, error: Exception) -> Response:  # noqa: ARG001
    return PlainTextResponse("the server could not answer; its log says why\n", 500)
