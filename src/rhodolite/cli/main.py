"""The command `rhodolite`: which verb, which steps, and how it ends."""

from __future__ import annotations

import io
import os
import sys
import traceback
import warnings
from contextlib import AbstractContextManager, nullcontext
from itertools import pairwise

from rhodolite.cli.allocation import keep_freed_memory
from rhodolite.cli.chain import run_chain
from rhodolite.cli.console import (
    Level,
    LogFormat,
    list_words,
    print_version,
    say,
    say_warnings,
    use_log_format,
)
from rhodolite.cli.interruption import catch_interruptions
from rhodolite.cli.report import asked_report, write_report
from rhodolite.cli.verbs import ALL_VERBS, own_verb
from rhodolite.errors import (
    DataError,
    OutputError,
    RhodoliteError,
    RhodoliteWarning,
    UsageError,
    sum_up_warnings,
)
from rhodolite.operations import is_operation, operation, operation_names

_BEFORE_VERBS = {
    "--quiet": False,
    "--debug": False,
    "--no-cache": False,
    "--no-journal": False,
    "--memory": True,
    "--workers": True,
    "--scratch": True,
    "--progress": True,
    "--log-format": True,
}
"""Options that may stand before the verb, and whether a value follows them."""
_LIBRARY_THREADS = ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS", "MKL_NUM_THREADS")
_INTERRUPTED = 130
_UNEXPECTED = 1
_INTRODUCTION = """\
Rhodolite: gridded climate data, from a file to an answer.

  rhodolite VERB INPUT... [options] [then VERB [options]]... -o OUTPUT

Steps joined by `then` run as one computation. The suffix of OUTPUT says what is written:
.nc, .zarr, .csv, .tif and others for data, .png, .svg or .pdf for a drawing.

Verbs
"""
_EXAMPLES = """
Examples
  rhodolite demo demo
  rhodolite inspect 'demo/nordic_daily_*.nc'
  rhodolite subset 'demo/nordic_daily_*.nc' --lat 60N..70N then anomaly -o anomaly.nc
  rhodolite draw map anomaly.nc --variable tas --time 2014-01 -o january.png

'rhodolite VERB --help' explains a verb and lists its options.
"""


def run() -> None:
    """Run the command line and end the program with its exit code."""
    if "_ARGCOMPLETE" in os.environ:
        from rhodolite.cli.completion import complete

        complete()
    keep_freed_memory()
    catch_interruptions()
    # What a stream cannot show, as pipes of some systems, must not end a command.
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="replace")
    sys.exit(main(sys.argv[1:]))


def main(words: list[str]) -> int:
    """Run a command line and return its exit code."""
    try:
        return _run_and_warn(words)
    finally:  # of whoever runs several in one process
        use_log_format(LogFormat.TEXT)


def _run_and_warn(words: list[str]) -> int:
    debug, quiet = "--debug" in words, "--quiet" in words
    bound_library_threads(words)
    with warnings.catch_warnings(record=True) as caught:
        warnings.simplefilter("default" if debug else "ignore")
        warnings.simplefilter("always", RhodoliteWarning)
        code = _run_guarded(words, debug, quiet)
    if not quiet:
        say_warnings(
            sum_up_warnings(
                [w.message for w in caught if isinstance(w.message, RhodoliteWarning)]
            )
        )
        say_warnings(
            str(w.message)
            for w in caught
            if debug and not isinstance(w.message, RhodoliteWarning)
        )
    return code


def value_of(option: str, words: list[str]) -> str | None:
    """Return the value of an option that counts before a command line is read as a whole."""
    for at, word in enumerate(words):
        name, equals, value = word.partition("=")
        if name == option:
            return value if equals else next(iter(words[at + 1 :]), None)
    return None


def bound_library_threads(words: list[str]) -> None:
    """Let the libraries below use no more threads than `--workers` allows, before they are loaded;
    what the environment says of them stays."""
    asked = value_of("--workers", words) or os.environ.get("RHODOLITE_WORKERS", "")
    if asked.isdecimal():
        for variable in _LIBRARY_THREADS:
            os.environ.setdefault(variable, asked)


def _library_of(error: ImportError) -> str:
    """Return the name of the last library of others that an import went through."""
    frames = (frame for frame, _ in traceback.walk_tb(error.__traceback__))
    roots = [
        str(frame.f_globals.get("__name__", "")).partition(".")[0] for frame in frames
    ]
    others = [
        root for root in roots if root not in ("rhodolite", "importlib", "__main__", "")
    ]
    return (error.name or (others[-1] if others else "needed here")).partition(".")[0]


def _run_guarded(words: list[str], debug: bool, quiet: bool) -> int:
    """Run a command line, and say in words what went wrong."""
    try:
        use_log_format(value_of("--log-format", words) or LogFormat.TEXT)
        with _caching(words), _noting(words):
            code = dispatch(words, quiet)
        sys.stdout.flush()
    except KeyboardInterrupt:
        say("rhodolite: interrupted; nothing half-written was left", Level.ERROR)
        return _INTERRUPTED
    except BrokenPipeError:
        # The reader of our output has gone away, as `head` does; that is not an error.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except MemoryError:
        say(
            "rhodolite: the machine's memory is exhausted; try a smaller --memory or fewer "
            "--workers",
            Level.ERROR,
        )
        return DataError.exit_code
    except Exception as error:
        if debug:
            say(traceback.format_exc())
        message, code = _explain(error, words)
        say(f"rhodolite: {message}", Level.ERROR)
    return code


def _explain(error: Exception, words: list[str]) -> tuple[str, int]:
    """Return what went wrong, and the exit code for it."""
    if isinstance(error, RhodoliteError):
        from rhodolite.formats.stores.object_stores import restore_addresses

        return restore_addresses(str(error)), error.exit_code
    if isinstance(error, ImportError):
        return (
            f"the library {_library_of(error)} cannot be loaded: {error}; install it again, into "
            "the environment that rhodolite is in"
        ), _UNEXPECTED
    if isinstance(error, OSError):
        place = f"{error.filename}: " if error.filename else ""
        return (
            f"{place}the system refuses: {error.strerror or error}",
            OutputError.exit_code,
        )
    advice = (
        "--debug prints the traceback, and --report FILE writes a diagnostic report"
    )
    if (path := asked_report(words)) is not None:
        advice = write_report(path, words, traceback.format_exc())
    kind = type(error).__name__
    return f"internal error: {kind}: {error}. Please report it; {advice}", _UNEXPECTED


def _caching(words: list[str]) -> AbstractContextManager[None]:
    """Return what is around a command that may keep the headers of files, or may not."""
    if "--no-cache" not in words:
        return nullcontext()
    from rhodolite.formats.header_cache import without_cache

    return without_cache()


def _noting(words: list[str]) -> AbstractContextManager[None]:
    """Return what is around a command whose outputs are noted in the journal, or are not."""
    if "--no-journal" not in words:
        return nullcontext()
    from rhodolite.studies.journal import without_journal

    return without_journal()


def _with_verb_first(words: list[str]) -> list[str]:
    """Return a command line with the options of a run that stand before the verb at its end."""
    at = 0
    while at < len(words) and words[at].partition("=")[0] in _BEFORE_VERBS:
        has_value = "=" in words[at] or not _BEFORE_VERBS[words[at]]
        at += 1 if has_value else 2
    return [*words[at:], *words[:at]] if at < len(words) else words


def _is_verb(word: str) -> bool:
    return word in ALL_VERBS or is_operation(word)


def _list_others() -> str:
    """List the verbs that other packages offer."""
    names = [name for name in operation_names() if name not in ALL_VERBS]
    if not names:
        return ""
    others = {name: _summary_of(name) for name in names}
    return "\nVerbs of other packages\n" + list_words(others)


def _summary_of(name: str) -> str:
    """Return what a verb of another package does, or why it cannot be loaded."""
    from rhodolite.operations.declaration import summary

    try:
        return summary(operation(name))
    except UsageError as error:
        return str(error)


def dispatch(words: list[str], quiet: bool) -> int:
    """Run one command line without catching what goes wrong, and return its exit code."""
    words = _with_verb_first(words)
    if words and words[0] == "help" and len(words) > 1:
        words = [*words[1:], "--help"]
    verb = words[0] if words else "--help"
    if verb in ("-h", "--help", "help") or ("--help" in words and not _is_verb(verb)):
        print(
            _INTRODUCTION + list_words(ALL_VERBS) + _list_others() + _EXAMPLES, end=""
        )
        return 0
    if verb in ("--version", "-V"):
        print_version(debug="--debug" in words)
        return 0
    run_verb = own_verb(verb)
    if run_verb is not None:
        return run_verb(words[1:], quiet)
    return _run_steps(words, quiet)


def _run_steps(words: list[str], quiet: bool) -> int:
    """Run a chain of steps, at whose end a server can stand."""
    if words[-1] == "serve" or ["then", "serve"] in map(list, pairwise(words)):
        from rhodolite.cli.verbs.serve import serve_chain

        at = max(place for place, word in enumerate(words) if word == "serve")
        return serve_chain(words[: at - 1], words[at + 1 :], quiet)
    run_chain(words, quiet)
    return 0
