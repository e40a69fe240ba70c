"""Blocks computed by the workers of a Dask scheduler, on this machine or others."""

from __future__ import annotations

import json
import logging
import socket
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import CancelledError, Executor, Future
from contextlib import contextmanager
from pathlib import Path
from typing import Any, cast
from urllib.parse import urlsplit

from rhodolite.errors import OutputError, UsageError, collecting, warn
from rhodolite.version import __version__

_PATIENCE = 20
"""Seconds to wait for a scheduler, and for its first worker."""
_KNOCK = 5
"""Seconds to wait until something answers at an address."""
_SAME = ("python", "rhodolite", "distributed")
"""What has to be of the same version on all machines."""
_MERGED_FIRST = 100
"""Priority of merging over reading more, so that few results wait on the workers."""


def _no_answer(address: str) -> UsageError:
    return UsageError(
        f"--cluster: no scheduler answers at {address}; start one with 'dask scheduler' and write "
        "its address, such as tcp://127.0.0.1:8786"
    )


def _written_address(place: str) -> str:
    """Return the address that a scheduler has written into a file; what is none, as it is.

    Raises
    ------
    UsageError
        If there is no address in the file.
    """
    if not Path(place).is_file():
        return place
    try:
        address = json.loads(Path(place).read_text())["address"]
    except (OSError, ValueError, KeyError, TypeError):
        address = None
    if not isinstance(address, str):
        raise UsageError(
            f"--cluster {place}: this file holds no address; 'dask scheduler --scheduler-file "
            f"{place}' writes one"
        )
    return address


def _need_answer(address: str) -> None:
    """Refuse an address at which nothing listens, which the client itself would try for long.

    Raises
    ------
    UsageError
        If it is no address, or nothing listens there.
    """
    parts = urlsplit(address if "://" in address else f"tcp://{address}")
    try:
        host, port = parts.hostname, parts.port
    except ValueError:
        host, port = None, None
    if host is None or port is None:
        raise _no_answer(address)
    if parts.scheme == "tls":
        _need_certificate(address)
    if parts.scheme not in ("tcp", "tls"):
        return
    try:
        socket.create_connection((host, port), timeout=_KNOCK).close()
    except OSError:
        raise _no_answer(address) from None


def _compare_versions(versions: dict[str, Any]) -> None:
    """Refuse a scheduler or workers that do not understand what they are sent.

    Parameters
    ----------
    versions : dict
        What a client says of itself, the scheduler and each worker.

    Raises
    ------
    UsageError
        If versions differ that have to be the same.
    """
    own = _versions(versions["client"])
    own["rhodolite"] = __version__
    others = {"the scheduler": versions["scheduler"]}
    others |= {
        f"the worker {place}": about for place, about in versions["workers"].items()
    }
    for name, about in others.items():
        theirs = _versions(about or {})
        needed = [
            part for part in _SAME if part != "rhodolite" or name != "the scheduler"
        ]
        for library in needed:
            if theirs.get(library) != own[library]:
                version = theirs.get(library)
                has = f"{library} {version}" if version else f"no {library}"
                raise UsageError(
                    f"--cluster: {name} has {has}, and here it is {own[library]}; install the same "
                    "everywhere"
                )
        if theirs.get("numpy") != own["numpy"]:
            warn(
                f"{name} has NumPy {theirs.get('numpy')}, and here it is {own['numpy']}, so "
                "results may differ in their last digits"
            )


def _versions(about: dict[str, Any]) -> dict[str, str | None]:
    """Return the versions of what matters; of Python, without the last number."""
    packages = {**about.get("packages", {})}
    python = str(packages.get("python", "")).split(".")
    return {**packages, "python": ".".join(python[:2])}


def _need_certificate(address: str) -> None:
    """Refuse an encrypted address where no settings of the engine say which certificate to show."""
    from distributed.security import Security

    make: Any = Security
    if make().get_connection_args("client").get("ssl_context") is None:
        raise UsageError(
            f"--cluster: {address} asks for certificates, and the settings of Dask name none; set "
            "distributed.comm.tls.ca-file, client.cert and client.key in its configuration, or by "
            "DASK_DISTRIBUTED__COMM__TLS__CA_FILE and so on"
        )


class Cluster(Executor):
    """An executor whose tasks run on the workers of a scheduler that is there already.

    What a pass computes with is sent to each worker once, and not with every task. A task whose
    worker is lost is given to another one by the scheduler. Results come from the workers
    themselves; the scheduler sees their sizes only.

    Parameters
    ----------
    address : str
        Such as ``tcp://127.0.0.1:8786``, or the file in which a scheduler has written where it is.
        Certificates for ``tls://`` are those of the settings of Dask itself.

    Raises
    ------
    UsageError
        If the package for clusters is not installed, no scheduler answers, it has no workers and
        gets none, or other versions of what has to be the same everywhere.
    """

    def __init__(self, address: str) -> None:
        try:
            from distributed import Client
        except ImportError:
            raise UsageError(
                "--cluster needs an extra package: pip install 'rhodolite[cluster]'"
            ) from None
        address = _written_address(address)
        _need_answer(address)
        _silence("distributed")
        connect: Any = Client
        self._address = address
        try:
            self._client: Any = connect(
                address, timeout=_PATIENCE, set_as_default=False, direct_to_workers=True
            )
        except (OSError, TimeoutError, ValueError):
            raise _no_answer(address) from None
        try:
            # A task, and not a look at who is there: some clusters start workers for tasks alone.
            # It is one of Python's own, which workers know that have nothing of ours.
            self._client.submit(int, pure=False).result(timeout=_PATIENCE)
        except TimeoutError:
            self._client.close()
            raise UsageError(
                f"--cluster: the scheduler at {address} has no workers; start some with 'dask "
                f"worker {address}'"
            ) from None
        try:
            _compare_versions(self._client.get_versions(packages=["rhodolite"]))
        except UsageError:
            self._client.close()
            raise
        self._executor = self._client.get_executor(pure=False)
        self._sent: tuple[Any, Any] | None = None

    @property
    def threads(self) -> int:
        """How many tasks the workers can run at once, of all that are there by now."""
        # What is known of a scheduler that is gone holds no workers; its tasks say so.
        workers = self._client.scheduler_info(n_workers=-1).get("workers", {})
        return max(1, sum(int(worker["nthreads"]) for worker in workers.values()))

    def submit(
        self, function: Callable[..., Any], /, *arguments: Any, **named: Any
    ) -> Future[Any]:
        """Run a task on some worker."""
        with _explaining(self._address):
            future = self._executor.submit(
                _call, self._send(function), *arguments, **named
            )
        return cast("Future[Any]", _Answer(future, self._address))

    def merge(
        self,
        function: Callable[[Any], Any],
        arguments: Sequence[Any],
        merge: Callable[[Any, Any], Any],
    ) -> Iterator[Any]:
        """Yield None for each task that is done, and the merger of their results at the end.

        The results of neighbours are merged where they are, pair by pair, so that only the last
        comes here. The pairs depend on the number of tasks alone.
        """
        with _explaining(self._address):
            yield from self._merge(function, arguments, merge)

    def _merge(
        self,
        function: Callable[[Any], Any],
        arguments: Sequence[Any],
        merge: Callable[[Any, Any], Any],
    ) -> Iterator[Any]:
        import distributed

        flat = self._send(function)
        leaves = [
            self._client.submit(_call, flat, argument, pure=False)
            for argument in arguments
        ]
        level, priority = leaves, _MERGED_FIRST
        while len(level) > 1:
            pairs = [
                self._client.submit(_merge, merge, *two, pure=False, priority=priority)
                for two in zip(level[::2], level[1::2], strict=False)
            ]
            level = [*pairs, *level[2 * len(pairs) :]]
            priority += 1
        (last,) = level
        # Only the last is held on to, so that workers forget what has been merged.
        ends = [self._client.submit(_nothing, leaf, pure=False) for leaf in leaves]
        del leaves, level
        watch: Any = distributed.as_completed
        for _ in watch(ends, loop=self._client.loop):
            yield None
        yield _Answer(last, self._address).result()

    def _send(self, function: Callable[..., Any]) -> Any:
        if self._sent is None or self._sent[0] is not function:
            # The result of a task and not data put on workers: what a worker that dies has held is
            # computed again elsewhere.
            self._sent = function, self._client.submit(_hold, function, pure=False)
        return self._sent[1]

    def shutdown(self, wait: bool = True, *, cancel_futures: bool = False) -> None:
        """Let go of the scheduler, which goes on running."""
        self._executor.shutdown(wait=wait and not cancel_futures)
        self._client.close()


class _Answer:
    """What a task will return; what it warned of is said here, where the user is."""

    def __init__(self, future: Any, address: str) -> None:
        self._future = future
        self._address = address

    def result(self, timeout: float | None = None) -> Any:
        with _explaining(self._address):
            value, messages = self._future.result(timeout)
        for message, fields in messages:
            warn(message, **fields)
        return value

    def cancel(self) -> bool:
        return bool(self._future.cancel())


@contextmanager
def _explaining(address: str) -> Iterator[None]:
    """Say in people's words what goes wrong between processes."""
    from distributed import KilledWorker, client
    from distributed.comm.core import CommClosedError

    # Older versions raise the other one.
    closed = getattr(client, "ClosedClientError", CommClosedError)
    try:
        yield
    except KilledWorker as error:
        raise OutputError(
            f"the workers of {address} died one after another at the same piece of work "
            f"({error}); they may have too little memory, so try a smaller --memory"
        ) from None
    except (CancelledError, CommClosedError, closed) as error:
        raise OutputError(
            f"the scheduler at {address} is gone ({type(error).__name__}); start it again, and "
            "then this command"
        ) from None


def _silence(library: str) -> None:
    """Let a library say nothing by itself: what goes wrong is said once, by the command."""
    for name in [library, *logging.root.manager.loggerDict]:
        if name == library or name.startswith(f"{library}."):
            logging.getLogger(name).setLevel(logging.CRITICAL)


def _hold(function: Callable[..., Any] | None) -> Callable[..., Any] | None:
    return function


def _nothing(_: Any) -> None:
    """Say that something is done without sending it."""


def _call(
    function: Callable[..., Any], *arguments: Any, **named: Any
) -> tuple[Any, list[Any]]:
    with collecting() as warned:
        value = function(*arguments, **named)
    return value, warned


def _merge(
    merge: Callable[[Any, Any], Any], first: Any, second: Any
) -> tuple[Any, list[Any]]:
    return merge(first[0], second[0]), [*first[1], *second[1]]
