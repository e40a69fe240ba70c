"""`rhodolite serve`: datasets over HTTP."""

from __future__ import annotations

import contextlib
import functools
import signal
import time
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rhodolite.errors import UsageError, nearest_names

if TYPE_CHECKING:
    import socket
    from collections.abc import Callable

    from rhodolite.cli.parser import Parser
    from rhodolite.model.dataset import Dataset
    from rhodolite.server.limits import Limits

_DESCRIPTION = """\
Serves files, patterns and collections to programs and browsers, each under a name, until it is
interrupted. `VERB ... then serve` serves what a chain computes, when it is asked for.

Only what is named is served, and only for reading; nobody else can reach it unless --host says so.
"""
_MOST_PORT = 65535
_MOST_PROCESSES = 64
_LIMITS = ("cells", "pixels", "seconds", "at-once")


def make_parser() -> Parser:
    """Return the parser of the verb."""
    from rhodolite.cli.parser import Parser
    from rhodolite.cli.work_options import add_work_options

    usage = "rhodolite serve [NAME=]INPUT... [options]"
    parser = Parser("serve", description=_DESCRIPTION, usage=usage)
    parser.add_argument(
        "inputs",
        nargs="*",
        metavar="[NAME=]INPUT",
        help="a file, a quoted pattern, a collection or an address; NAME is its own by default",
    )
    parser.add_argument(
        "--host", default="127.0.0.1", help="address to listen on (default: 127.0.0.1)"
    )
    parser.add_argument(
        "--port", default="8080", help="port to listen on (default: 8080)"
    )
    parser.add_argument(
        "--base-path",
        metavar="/PATH",
        default="",
        help="what stands before all addresses where a proxy passes them on",
    )
    parser.add_argument(
        "--prepare",
        action="store_true",
        help="compute what a chain reduces before serving",
    )
    parser.add_argument(
        "--watch",
        action="store_true",
        help="look whether patterns name more files by now, and inputs of many have changed",
    )
    parser.add_argument(
        "--processes",
        metavar="N",
        default="1",
        help="answer in so many processes, which share memory and cores (default: 1)",
    )
    parser.add_argument(
        "--limit",
        action="append",
        metavar="NAME=NUMBER",
        default=[],
        help="another bound of a request: cells, pixels, seconds or at-once; can be given "
        "several times",
    )
    add_work_options(parser)
    return parser


def run(words: list[str], quiet: bool) -> int:
    """Serve what the inputs hold.

    Parameters
    ----------
    words : list of str
        Words of the command line.
    quiet : bool
        Whether requests are not logged.
    """
    options = make_parser().parse(words)
    if not options.inputs:
        raise UsageError(
            "serve: no input; name the files to serve, such as rhodolite serve a.nc"
        )
    from rhodolite.formats.open import open_dataset

    openings: dict[str, Callable[[], Dataset]] = {}
    for text in options.inputs:
        name, given = _name_of(text)
        if name in openings:
            raise UsageError(
                f"serve: two inputs would be called '{name}'; name one of them, as in NAME={given}"
            )
        openings[name] = functools.partial(open_dataset, given)
    return _serve(openings, options, quiet)


def serve_chain(words: list[str], following: list[str], quiet: bool) -> int:
    """Serve what a chain computes.

    Parameters
    ----------
    words : list of str
        Words of the chain.
    following : list of str
        Words after `serve`.
    quiet : bool
        Whether requests are not logged.
    """
    from rhodolite.cli.chain import parse_chain

    options = make_parser().parse(following)
    if options.inputs:
        raise UsageError("serve: inputs are named in the first step only")
    chain, run_options = parse_chain(words, to_be_written=False)
    for name in ("memory", "workers"):
        if getattr(options, name) is None:
            setattr(options, name, run_options.get(name))
    name, _ = _name_of(chain.input.files[0])
    return _serve({name: chain.compute}, options, quiet)


def _name_of(text: str) -> tuple[str, str]:
    """Return the name under which an input is served, and the input."""
    name, equals, given = text.partition("=")
    if equals and name and not Path(text).exists() and "/" not in name:
        return _plain(name), given
    return _plain(Path(text.rstrip("/")).stem), text


def _plain(name: str) -> str:
    plain = "".join(
        letter if letter.isalnum() or letter in "_-" else "_" for letter in name
    )
    return plain.strip("_") or "data"


def _serve(
    openings: dict[str, Callable[[], Dataset]], options: Any, quiet: bool
) -> int:
    from rhodolite.server.listening import need_libraries

    need_libraries()
    from rhodolite.cli.console import say, show
    from rhodolite.server.listening import address_of, listen

    port, count = _port(options.port), _processes(options.processes)
    base_path = options.base_path.rstrip("/")
    if base_path and not base_path.startswith("/"):
        raise UsageError(
            f"--base-path: '{base_path}' begins with no slash; write /{base_path}"
        )

    def announce() -> None:
        address = address_of(listener, options.host)
        for name in openings:
            show(f"{address}/dap/{name}")
            show(f"{address}/zarr/{name}")
        show(f"{address}/")
        if options.host not in ("127.0.0.1", "localhost", "::1"):
            say(f"{options.host}: others on the network can read what is served")

    with listen(options.host, port) as listener:
        say_request = None if quiet else say
        if count == 1:
            _answer(openings, options, listener, announce, say_request)
        else:
            from rhodolite.server.processes import Processes

            processes = Processes(count, announce)
            code = processes.divide()
            if code is None:
                ready, folder = processes.say_ready, processes.folder
                _answer(openings, options, listener, ready, say_request, folder)
                return 0
            if code:
                return code
    say("ended")
    return 0


def _answer(
    openings: dict[str, Callable[[], Dataset]],
    options: Any,
    listener: socket.socket,
    announce: Callable[[], None],
    say: Callable[[str], None] | None,
    counts_in: Path | None = None,
) -> None:
    """Answer requests on a socket until this process is interrupted."""
    from rhodolite.cli.console import say as say_always
    from rhodolite.cli.engine import make_engine
    from rhodolite.server.app import make_app
    from rhodolite.server.listening import make_server
    from rhodolite.server.middleware import Counts
    from rhodolite.server.sources import Sources

    count = _processes(options.processes)
    engine, limits = make_engine(True, vars(options)), _limits(options.limit)
    engine.memory, engine.workers = engine.memory // count, -(-engine.workers // count)
    limits = replace(limits, at_once=-(-limits.at_once // count))
    sources = Sources(openings, engine, limits, watch=options.watch)
    if options.prepare:
        began = time.monotonic()
        sources.prepare()
        say_always(f"computed what is served in {time.monotonic() - began:.1f} s")
    base_path, counts = options.base_path.rstrip("/"), Counts(counts_in)
    server = make_server(make_app(sources, sources.memory, say, base_path, counts))
    if hasattr(signal, "SIGHUP"):
        signal.signal(signal.SIGHUP, lambda *_: sources.renew())
    announce()
    # The requests that are in flight are answered before it comes back.
    with contextlib.suppress(KeyboardInterrupt):
        server.run(sockets=[listener])


def _processes(text: str) -> int:
    if not text.isdecimal() or not 0 < int(text) <= _MOST_PROCESSES:
        raise UsageError(
            f"--processes: '{text}' is no number of processes; write one up to "
            f"{_MOST_PROCESSES}"
        )
    return int(text)


def _port(text: str) -> int:
    if not text.isdecimal() or int(text) > _MOST_PORT:
        raise UsageError(
            f"--port: '{text}' is not a port; write a number up to {_MOST_PORT}"
        )
    return int(text)


def _limits(texts: Sequence[str]) -> Limits:
    from rhodolite.server.limits import Limits

    limits: dict[str, Any] = {}
    for text in texts:
        name, _, number = text.partition("=")
        if name not in _LIMITS:
            raise UsageError(
                f"--limit: there is no '{name}'. {nearest_names(name, _LIMITS)}"
            )
        if not number.isdecimal() or int(number) < 1:
            raise UsageError(
                f"--limit {text}: write a whole number from 1 up, as in {name}=1000"
            )
        limits[name.replace("-", "_")] = int(number)
    return Limits(**limits)
