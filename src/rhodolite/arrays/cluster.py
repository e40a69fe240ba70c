"""Blocks computed by the workers of a Dask scheduler, on this machine or others."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Executor, Future
from typing import Any, cast

from rhodolite.errors import UsageError, collecting, warn

_PATIENCE = 20
"""Seconds to wait for a scheduler, and for its first worker."""


class Cluster(Executor):
    """An executor whose tasks run on the workers of a scheduler that is there already.

    What a pass computes with is sent to each worker once, and not with every block. A task whose
    worker is lost is given to another one by the scheduler.

    Parameters
    ----------
    address : str
        Such as ``tcp://127.0.0.1:8786``.

    Raises
    ------
    UsageError
        If the package for clusters is not installed, no scheduler answers, or it has no workers.
    """

    def __init__(self, address: str) -> None:
        try:
            from distributed import Client
        except ImportError:
            raise UsageError(
                "--cluster needs an extra package: pip install 'rhodolite[cluster]'"
            ) from None
        connect: Any = Client
        try:
            self._client: Any = connect(address, timeout=_PATIENCE, set_as_default=False)
        except (OSError, TimeoutError, ValueError):
            raise UsageError(
                f"--cluster: no scheduler answers at {address}; start one with 'dask scheduler' "
                "and write its address, such as tcp://127.0.0.1:8786"
            ) from None
        try:
            self._client.wait_for_workers(1, timeout=_PATIENCE)
        except TimeoutError:
            self._client.close()
            raise UsageError(
                f"--cluster: the scheduler at {address} has no workers; start some with 'dask "
                f"worker {address}'"
            ) from None
        self._executor = self._client.get_executor(pure=False)
        self._sent: tuple[Any, Any] | None = None

    @property
    def threads(self) -> int:
        """How many tasks the workers can run at once."""
        return max(1, int(sum(self._client.nthreads().values())))

    def submit(self, function: Callable[..., Any], /, *arguments: Any, **named: Any) -> Future[Any]:
        """Run a task on some worker."""
        if self._sent is None or self._sent[0] is not function:
            # The result of a task and not data put on workers: what a worker that dies has held is
            # computed again elsewhere.
            self._sent = function, self._client.submit(_hold, function, pure=False)
        return cast(
            "Future[Any]", _Answer(self._executor.submit(_call, self._sent[1], *arguments, **named))
        )

    def shutdown(self, wait: bool = True, *, cancel_futures: bool = False) -> None:
        """Let go of the scheduler, which goes on running."""
        self._executor.shutdown(wait=wait and not cancel_futures)
        self._client.close()


class _Answer:
    """What a task will return; what it warned of is said here, where the user is."""

    def __init__(self, future: Future[Any]) -> None:
        self._future = future

    def result(self, timeout: float | None = None) -> Any:
        value, told = self._future.result(timeout)
        for message, fields in told:
            warn(message, **fields)
        return value

    def cancel(self) -> bool:
        return self._future.cancel()


def _hold(function: Callable[..., Any]) -> Callable[..., Any]:
    return function


def _call(function: Callable[..., Any], *arguments: Any, **named: Any) -> tuple[Any, list[Any]]:
    with collecting() as told:
        value = function(*arguments, **named)
    return value, told
