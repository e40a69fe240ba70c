"""What the command line does besides steps of a chain: joining, building, studies, serving."""

from __future__ import annotations

import threading
from collections.abc import Mapping, Sequence
from os import PathLike
from pathlib import Path
from types import TracebackType
from typing import Literal, Self

from rhodolite.api.dataset import Dataset
from rhodolite.api.watching import make_engine
from rhodolite.model.dataset import Dataset as PlainDataset

_LONGEST_START = 60.0
"""Seconds after which a server that does not answer is given up."""


def join(
    inputs: str | PathLike[str] | Sequence[str | PathLike[str]],
    *,
    overlap: Literal["first", "last"] | None = None,
    group: str | None = None,
) -> Dataset:
    """Open files as the one dataset that they form, also where they hold the same times.

    Parameters
    ----------
    inputs : str, path or a sequence of them
        Files, patterns and addresses.
    overlap : {"first", "last"}, optional
        Which file counts where two hold the same stretch of time; by default such are refused.
    group : str, optional
        The group to read of files that have groups.

    Raises
    ------
    DataError
        If they do not fit together.

    Examples
    --------
    >>> path = folder / "day.nc"
    >>> data.write(path)
    >>> rhodolite.join([path])["tas"].shape
    (2,)
    """
    from rhodolite.formats.concatenate import Overlap
    from rhodolite.pipeline.inputs import Input

    given = [inputs] if isinstance(inputs, (str, PathLike)) else list(inputs)
    which = None if overlap is None else Overlap(overlap)
    source = Input("data", tuple(str(name) for name in given), group, overlap=which)
    return Dataset.of(source.open().together)


def build(
    inputs: str | PathLike[str] | Sequence[str | PathLike[str]],
    description: str | PathLike[str],
) -> Dataset:
    """Return the dataset that tables or text grids form, with a description of them.

    Parameters
    ----------
    inputs : str, path or a sequence of them
        Tables, text grids, or the folder of these.
    description : str or path
        A TOML file that says what they do not.

    Raises
    ------
    DataError
        If the description is wrong, with its line, or does not fit the files.
    """
    from rhodolite.pipeline.inputs import Input

    given = [inputs] if isinstance(inputs, (str, PathLike)) else list(inputs)
    files = tuple(str(name) for name in given)
    return Dataset.of(
        Input("data", files, description=str(description)).open().together
    )


def study(
    path: str | PathLike[str],
    *,
    settings: Mapping[str, str] | None = None,
    into: str | PathLike[str] | None = None,
    only: Sequence[str] = (),
    fresh: bool = False,
    overwrite: bool = False,
) -> list[Path]:
    """Make the outputs of a study that are not up to date, and return where they lie.

    Parameters
    ----------
    path : str or path
        A TOML file.
    settings : mapping of str to str, optional
        Other values of its settings.
    into : str or path, optional
        Where the outputs go; the folder of the study by default.
    only : sequence of str
        The outputs to be made, with all that they need.
    fresh : bool
        Whether outputs that are up to date are made again.
    overwrite : bool
        Whether files that the study has not made may be replaced.

    Raises
    ------
    UsageError
        If anything in it makes no sense; the message has the line.

    Examples
    --------
    >>> [place.name for place in rhodolite.study(recipe, fresh=True)]
    ['copy.nc']
    """
    from rhodolite.studies.reader import read_study
    from rhodolite.studies.run import StudyRun

    folder = None if into is None else Path(into)
    read = read_study(Path(path), settings)
    run = StudyRun(read, folder, tuple(only), fresh, overwrite)
    written: list[Path] = []
    run.run(make_engine(), lambda place, _: written.append(place))
    return written


def retrace(path: str | PathLike[str]) -> str:
    """Return the study, as text, that made a file, which the file carries with it.

    Parameters
    ----------
    path : str or path
        Data, a picture or a report.

    Raises
    ------
    DataError
        If it carries none.

    Examples
    --------
    >>> [copy] = rhodolite.study(recipe, fresh=True)
    >>> "copy.nc" in rhodolite.retrace(copy)
    True
    """
    from rhodolite.studies.carried import find_study

    return find_study(Path(path)).study


def verify(path: str | PathLike[str]) -> dict[str, str]:
    """Return whether the inputs of a file are still what it was made of, in words by their names.

    Parameters
    ----------
    path : str or path
        Data, a picture or a report.

    Raises
    ------
    DataError
        If it carries no study, or does not say how it was made.

    Examples
    --------
    >>> [copy] = rhodolite.study(recipe, fresh=True)
    >>> list(rhodolite.verify(copy).values())
    ['the same']
    """
    from rhodolite.studies import tracing

    return dict(tracing.verify(Path(path)))


class Serving:
    """Datasets served over HTTP in a thread of its own; ends with `stop`, or as a context.

    Attributes
    ----------
    address : str
        Such as ``http://127.0.0.1:8080``; a dataset lies at ``address/dap/NAME``.
    """

    def __init__(
        self, datasets: Mapping[str, PlainDataset], host: str, port: int
    ) -> None:
        from rhodolite.server.app import make_app
        from rhodolite.server.limits import Limits
        from rhodolite.server.listening import address_of, listen, make_server
        from rhodolite.server.sources import Sources

        openings = {
            name: (lambda data=data.plain: data) for name, data in datasets.items()
        }
        sources = Sources(openings, make_engine(), Limits())
        self._server = make_server(make_app(sources, sources.memory, None))
        self._listener = listen(host, port)
        self.address = address_of(self._listener, host)
        self._thread = threading.Thread(
            target=self._server.run, kwargs={"sockets": [self._listener]}, daemon=True
        )
        self._thread.start()

    def stop(self) -> None:
        """Answer what is in flight, and end."""
        self._server.should_exit = True
        self._thread.join(_LONGEST_START)
        self._listener.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        traceback: TracebackType | None,
    ) -> None:
        self.stop()


def serve(
    datasets: Mapping[str, PlainDataset], *, host: str = "127.0.0.1", port: int = 0
) -> Serving:
    """Serve datasets over HTTP, for programs and browsers, while Python goes on.

    Parameters
    ----------
    datasets : mapping of str to Dataset
        By the names under which they are served.
    host : str
        Address to listen on; nobody else can reach the usual one.
    port : int
        A free one by default.

    Raises
    ------
    UsageError
        If the libraries for it are not installed, or the port is taken.

    Examples
    --------
    >>> with rhodolite.serve({"rain": data}) as serving:  # doctest: +SKIP
    ...     print(serving.address)
    """
    from rhodolite.server.listening import need_libraries

    need_libraries()
    return Serving(datasets, host, port)
