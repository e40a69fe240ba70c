"""The web application: protocols under their addresses, and what holds for all of them."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Mapping
from contextlib import asynccontextmanager
from http import HTTPStatus
from urllib.parse import quote, unquote

from anyio import to_thread
from starlette.applications import Starlette
from starlette.exceptions import HTTPException
from starlette.middleware import Middleware
from starlette.requests import Request
from starlette.responses import (
    JSONResponse,
    PlainTextResponse,
    Response,
)
from starlette.routing import Route

from rhodolite.errors import DataError, RhodoliteError
from rhodolite.server import dap, dap4, edr, wms, zarr_store
from rhodolite.server.answers import (
    answer_dap,
    answer_dap4,
    answer_unchanged,
    caching_headers,
    tag_of,
)
from rhodolite.server.api_description import MEDIA as MEDIA_API
from rhodolite.server.api_description import describe_api
from rhodolite.server.connections import MOST_OPEN
from rhodolite.server.edr import Collection
from rhodolite.server.layers import Fields
from rhodolite.server.limits import Refused
from rhodolite.server.middleware import Compress, Counts, Guard, Log, Prefix
from rhodolite.server.page import write_index, write_page
from rhodolite.server.ranges import Ranges
from rhodolite.server.recent import Recent
from rhodolite.server.served import Served
from rhodolite.server.view import describe_view, need_layers, static_file
from rhodolite.server.wms import Maps
from rhodolite.server.wms_asked import version_of
from rhodolite.version import __version__

_TRIES = 5
_DOWNLOADS = 64 << 20
"""Bytes of files that are kept for those who ask for them in parts."""


def make_app(
    datasets: Mapping[str, Served],
    memory: int = 256 << 20,
    say: Callable[[str], None] | None = None,
    base_path: str = "",
    counts: Counts | None = None,
) -> Starlette:
    """Return the application for datasets by name.

    Parameters
    ----------
    datasets : mapping of str to Served
    memory : int
        Bytes that decoded fields may take.
    say : callable, optional
        What is told a line for each request.
    base_path : str
        What stands before all addresses where a proxy passes them on, such as ``/data``.
    counts : Counts, optional
        What counts the requests.
    """
    counts = Counts() if counts is None else counts
    site = _Site(datasets, memory, counts)
    routes = [
        Route("/", site.index),
        Route("/datasets", site.listing),
        Route("/health", site.health),
        Route("/metrics", site.metrics),
        Route("/dap/{name}.dmr.xml", site.metadata),
        Route("/dap/{name}.{kind}", site.dap),
        Route("/dap/{name}", site.dap),
        Route("/zarr/{name}/{path:path}", site.zarr),
        Route("/wms/{name}", site.wms),
        Route("/view/{name}.json", site.view_data),
        Route("/view/{name}", site.view),
        Route("/static/{path:path}", site.static),
        Route("/edr", site.edr),
        Route("/edr/api", site.edr),
        Route("/edr/conformance", site.edr),
        Route("/edr/collections", site.edr),
        Route("/edr/collections/{name}", site.edr),
        Route("/edr/collections/{name}/{query}", site.edr),
    ]
    return Starlette(
        routes=routes,
        middleware=[
            Middleware(Prefix, base_path),
            Middleware(Log, counts, say),
            Middleware(Guard),
            Middleware(Compress),
            Middleware(Ranges),
        ],
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

    def __init__(
        self, datasets: Mapping[str, Served], memory: int, counts: Counts
    ) -> None:
        self._datasets = datasets
        self._counts = counts
        self._fields = Fields(memory)
        self._downloads: Recent[tuple[bytes, str]] = Recent(
            _DOWNLOADS, lambda answer: len(answer[0])
        )
        self._maps: dict[str, Maps] = {}
        self._collections: dict[str, Collection] = {}

    def index(self, request: Request) -> Response:
        return Response(
            write_index(self._datasets, _root(request)), media_type="text/html"
        )

    def listing(self, request: Request) -> Response:
        root = str(request.base_url).rstrip("/")
        protocols = {
            "page": "view",
            "dap": "dap",
            "zarr": "zarr",
            "wms": "wms",
            "edr": "edr/collections",
        }
        return JSONResponse(
            [
                {
                    "name": name,
                    "title": entry.title,
                    **{
                        key: f"{root}/{path}/{quote(name)}"
                        for key, path in protocols.items()
                    },
                }
                for name, entry in self._datasets.items()
            ]
        )

    def health(self, request: Request) -> Response:  # noqa: ARG002
        return JSONResponse({"status": "ok", "datasets": len(self._datasets)})

    def metrics(self, request: Request) -> Response:  # noqa: ARG002
        media = "application/openmetrics-text; version=1.0.0; charset=utf-8"
        return Response(self._counts.write(), media_type=media)

    def dap(self, request: Request) -> Response:
        kind = request.path_params.get("kind", "")
        if kind in ("dmr", "dap"):
            return self._dap4(request, kind)
        head, constraint = request.method == "HEAD", unquote(request.url.query)
        try:
            return self._answer(
                request, lambda served: answer_dap(served, kind, constraint, head=head)
            )
        except RhodoliteError as error:
            status = error.status if isinstance(error, Refused) else 500
            return PlainTextResponse(
                dap.write_error(status, str(error)),
                status,
                {**dap.HEADERS, "content-description": "dods-error"},
            )

    def metadata(self, request: Request) -> Response:
        """Return the description under the longer name that some clients ask for."""
        return self._dap4(request, "dmr")

    def _dap4(self, request: Request, kind: str) -> Response:
        try:
            return self._answer(
                request, lambda served: answer_dap4(request, served, kind)
            )
        except RhodoliteError as error:
            status = error.status if isinstance(error, Refused) else 500
            text = dap4.write_error(status, str(error))
            return Response(text, status, media_type=dap4.MEDIA["error"])

    def zarr(self, request: Request) -> Response:
        def answer(served: Served) -> Response:
            content, media = zarr_store.answer(served, request.path_params["path"])
            return Response(content, media_type=media, headers=caching_headers(served))

        try:
            return self._answer(request, answer)
        except RhodoliteError as error:
            return _plain_error(error)

    def wms(self, request: Request) -> Response:
        parameters = dict(request.query_params)

        def answer(served: Served) -> Response:
            address = f"{str(request.base_url).rstrip('/')}/wms/{quote(served.name)}"
            content, media, headers = self._maps_of(served).answer(parameters, address)
            headers = {**caching_headers(served), **headers}
            return Response(content, media_type=media, headers=headers)

        try:
            return self._answer(request, answer)
        except RhodoliteError as error:
            refused = error if isinstance(error, Refused) else Refused(500, str(error))
            version = version_of(parameters)
            return Response(
                wms.write_error(refused, version), refused.status, media_type="text/xml"
            )

    def view(self, request: Request) -> Response:
        try:
            served = self._find(request)
            need_layers(self._maps_of(served))
        except RhodoliteError as error:
            return _plain_error(error)
        page = write_page(
            "view.html", name=served.name, title=served.title, root=_root(request)
        )
        return Response(page, media_type="text/html")

    def view_data(self, request: Request) -> Response:
        try:
            served = self._find(request)
            return JSONResponse(
                describe_view(self._maps_of(served)), headers=caching_headers(served)
            )
        except RhodoliteError as error:
            return _problem(error)

    def static(self, request: Request) -> Response:
        try:
            content, media = static_file(request.path_params["path"])
        except RhodoliteError as error:
            return _plain_error(error)
        # An address with the release in it means the same for ever.
        lasting = request.query_params.get("v") == __version__
        age = "max-age=31536000, immutable" if lasting else "max-age=3600"
        headers = {"cache-control": age, "etag": tag_of(content)}
        return Response(content, media_type=media, headers=headers)

    def edr(self, request: Request) -> Response:
        address = str(request.base_url).rstrip("/") + "/edr"
        try:
            if "name" not in request.path_params:
                return self._about_edr(request.url.path.rpartition("/edr")[2], address)
            return self._answer(request, lambda s: self._query(request, s, address))
        except RhodoliteError as error:
            return _problem(error)

    def _query(self, request: Request, served: Served, address: str) -> Response:
        collection = self._collection_of(served)
        query = request.path_params.get("query")
        if query is None:
            return JSONResponse(collection.describe(address))
        asked = {"f": _format_asked(request), **request.query_params}
        if asked["f"].lower() == "netcdf":
            return self._download(collection, query, asked)
        content, media = collection.query(query, asked)
        return Response(content, media_type=media, headers=caching_headers(served))

    def _download(
        self, collection: Collection, query: str, asked: dict[str, str]
    ) -> Response:
        """Return a file, which is kept for a while, since its parts may be asked for one by one."""
        served = collection.served
        key = (served.name, served.version, query, *sorted(asked.items()))
        content, media = self._downloads.get(
            key, lambda: collection.query(query, asked)
        )
        # The file has the time in it at which it was made, so its tag is its own.
        headers = {**caching_headers(served), "etag": tag_of(content)}
        return Response(content, media_type=media, headers=headers)

    def _about_edr(self, page: str, address: str) -> Response:
        """Return what is said of the whole service."""
        if page == "/api":
            return JSONResponse(
                describe_api(address, list(self._datasets)), media_type=MEDIA_API
            )
        if page == "/conformance":
            return JSONResponse(edr.conformance())
        if page == "/collections":
            collections = [
                self._collection_of(served).describe(address) for served in self._all()
            ]
            links = edr.links_of(address, "/collections")
            return JSONResponse({"links": links, "collections": collections})
        return JSONResponse(edr.landing(address))

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

    def _answer(
        self, request: Request, answer: Callable[[Served], Response]
    ) -> Response:
        """Return the answer of a dataset as it is; of files that are replaced meanwhile, that of
        the new ones.

        Raises
        ------
        RhodoliteError
            If there is none.
        """
        for _ in range(_TRIES):
            served = self._find(request)
            if unchanged := answer_unchanged(request, served):
                return unchanged
            try:
                response = answer(served)
            except DataError:
                if not served.is_replaced():
                    raise
                continue
            if not served.is_replaced():
                return response
        raise Refused(
            503, f"the files of {served.name} are being written to; ask again later"
        )

    def _find(self, request: Request) -> Served:
        name = request.path_params["name"]
        if name not in self._datasets:
            raise Refused(404, f"there is no dataset '{name}' here; / lists them")
        return self._datasets[name]


def _root(request: Request) -> str:
    """Return what stands before the addresses of this server on its own pages."""
    return str(request.scope.get("root_path", ""))


def _format_asked(request: Request) -> str:
    """Return the format that an `Accept` header prefers among those that there are."""
    taken = request.headers.get("accept", "")
    for media, name in (("application/x-netcdf", "NetCDF"), ("text/csv", "CSV")):
        if media in taken:
            return name
    return "CoverageJSON"


def _plain_error(error: RhodoliteError) -> Response:
    status = error.status if isinstance(error, Refused) else 500
    return PlainTextResponse(f"{error}\n", status)


def _problem(error: RhodoliteError) -> Response:
    """Return an error as problem details (RFC 9457)."""
    status = error.status if isinstance(error, Refused) else 500
    problem = {
        "type": "about:blank",
        "title": HTTPStatus(status).phrase,
        "status": status,
    }
    media = "application/problem+json"
    return JSONResponse({**problem, "detail": str(error)}, status, media_type=media)


def _answer_missing(request: Request, error: Exception) -> Response:  # noqa: ARG001
    status = error.status_code if isinstance(error, HTTPException) else 500
    return PlainTextResponse("there is nothing here; / lists the datasets\n", status)


def _answer_crash(request: Request, error: Exception) -> Response:  # noqa: ARG001
    return PlainTextResponse("the server could not answer; its log says why\n", 500)
