"""A server on an address: what it listens on, and how it runs."""

from __future__ import annotations

import socket
from typing import Any

from rhodolite.errors import UsageError

_SECONDS_IDLE, _SECONDS_TO_END = 20, 30


def need_libraries() -> None:
    """Refuse to serve without the libraries for it.

    Raises
    ------
    UsageError
        With what installs them.
    """
    try:
        import starlette  # noqa: F401
        import uvicorn  # noqa: F401
    except ImportError:
        raise UsageError(
            "serve needs two libraries that are not installed; "
            "install them with pip install 'rhodolite[serve]'"
        ) from None


def make_server(app: Any) -> Any:
    """Return what answers requests with an application, on sockets that are given when it runs.

    Parameters
    ----------
    app : ASGI application
    """
    import uvicorn

    from rhodolite.server.connections import MOST_OPEN, BoundedConnection

    config = uvicorn.Config(
        app,
        log_config=None,
        access_log=False,
        server_header=False,
        timeout_keep_alive=_SECONDS_IDLE,
        timeout_graceful_shutdown=_SECONDS_TO_END,
        # More than are kept open, since those that are ended linger for a moment.
        limit_concurrency=2 * MOST_OPEN,
        http=BoundedConnection,
        ws="none",
    )
    return uvicorn.Server(config)


def listen(host: str, port: int) -> socket.socket:
    """Return a socket that listens.

    Raises
    ------
    UsageError
        If the address is not there or the port is taken.
    """
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    # The protocol is named, since answers are sent without delay only where it is.
    listener = socket.socket(family, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind((host, port))
    except OSError as error:
        listener.close()
        raise UsageError(
            f"serve: cannot listen on {host}, port {port}: {error.strerror or error}; choose "
            "another with --port"
        ) from None
    listener.listen(128)
    return listener


def address_of(listener: socket.socket, host: str) -> str:
    """Return the address under which a socket is reached."""
    shown = f"[{host}]" if ":" in host else host
    return f"http://{shown}:{listener.getsockname()[1]}"
