"""The command `rhodolite`: which verb, which steps, and how it ends."""

from __future__ import annotations

import io
import os
import signal
import sys
import time
import traceback
import warnings
from pathlib import Path
from typing import Any

from rhodolite.cli.console import say, say_plan, say_warnings, written_line
from rhodolite.errors import RhodoliteError, RhodoliteWarning, UsageError, added_up, nearest_names
from rhodolite.version import __version__

_INTERRUPTED = 130
_UNEXPECTED = 1
_INTRODUCTION = """\
Rhodolite: gridded climate data, from a file to an answer.

  rhodolite VERB INPUT... [options] [then VERB [options]]... -o OUTPUT

Steps joined by `then` run as one computation. The suffix of OUTPUT says what is written:
.nc, .zarr, .csv or .asc for data, .png, .svg or .pdf for a drawing.

Verbs
"""
_EXAMPLES = """
Examples
  rhodolite demo demo
  rhodolite inspect 'demo/nordic_daily_*.nc'
  rhodolite subset 'demo/nordic_daily_*.nc' --lat 60N..70N then anomaly --base 2012..2016 -o anomaly.nc
  rhodolite draw map anomaly.nc --variable tas --time 2014-01 -o january.png

'rhodolite VERB --help' explains a verb and lists its options.
"""


def run() -> None:
    """Run the command line and end the program with its exit code."""
    # A request to terminate and a terminal that closes are answered like Ctrl-C, so that nothing half-written stays.
    for name in ("SIGTERM", "SIGHUP"):
        number = getattr(signal, name, None)
        if number is not None and signal.getsignal(number) is not signal.SIG_IGN:
            signal.signal(number, _terminate)
    # What a stream cannot show, as pipes of some systems, must not end a command.
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="replace")
    sys.exit(main(sys.argv[1:]))


def main(words: list[str]) -> int:
    """Run a command line and return its exit code."""
    debug, quiet = "--debug" in words, "--quiet" in words
    with warnings.catch_warnings(record=True) as caught:
        warnings.simplefilter("default" if debug else "ignore")
        warnings.simplefilter("always", RhodoliteWarning)
        code = _guarded(words, debug, quiet)
    if not quiet:
        say_warnings(added_up([w.message for w in caught if isinstance(w.message, RhodoliteWarning)]))
        say_warnings(str(w.message) for w in caught if debug and not isinstance(w.message, RhodoliteWarning))
    return code


def _guarded(words: list[str], debug: bool, quiet: bool) -> int:
    try:
        code = dispatch(words, quiet)
        sys.stdout.flush()
    except RhodoliteError as error:
        if debug:
            traceback.print_exc()
        say(f"rhodolite: {error}")
        return error.exit_code
    except KeyboardInterrupt:
        say("rhodolite: interrupted; nothing half-written was left")
        return _INTERRUPTED
    except BrokenPipeError:
        # The reader of our output has gone away, as `head` does; that is no error.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except MemoryError:
        say("rhodolite: the machine's memory is exhausted; try a smaller --memory or fewer --workers")
        return 3
    except Exception as error:
        if debug:
            traceback.print_exc()
        say(f"rhodolite: this should not have happened: {type(error).__name__}: {error}. --debug shows where.")
        return _UNEXPECTED
    return code


def dispatch(words: list[str], quiet: bool) -> int:
    """Run one command line without catching what goes wrong, and return its exit code."""
    if words and words[0] == "help" and len(words) > 1:
        words = [*words[1:], "--help"]
    if not words or words[0] in ("-h", "--help", "help") or (words[0] not in _summaries() and "--help" in words):
        print(_INTRODUCTION + _verb_list() + _EXAMPLES, end="")
    elif words[0] in ("--version", "-V"):
        print(f"rhodolite {__version__}")
    elif words[0] == "inspect":
        from rhodolite.cli.inspect import run_inspect

        run_inspect(words[1:])
    elif words[0] == "check":
        from rhodolite.cli.check import run_check

        return run_check(words[1:])
    elif words[0] == "join":
        from rhodolite.cli.join import run_join

        run_join(words[1:])
    elif words[0] == "build":
        from rhodolite.cli.build import run_build

        run_build(words[1:])
    elif words[0] == "demo":
        from rhodolite.cli.demo import run_demo

        run_demo(words[1:], quiet, dispatch)
    else:
        run_chain(words, quiet)
    return 0


def run_chain(words: list[str], quiet: bool) -> None:
    """Run steps joined by `then`, and say in one line what was written."""
    from rhodolite.cli.engines import make_engine
    from rhodolite.cli.options import CHOSEN, parse_number
    from rhodolite.formats.chunking import make_layout
    from rhodolite.operations.subset import Subset
    from rhodolite.study.chain import Chain

    began = time.monotonic()
    inputs: list[str] = []
    steps: list[Any] = []
    run: dict[str, Any] = {}
    for segment in _segments(words):
        step, given, options = _parse_step(segment, first=not steps)
        chosen = options.pop(CHOSEN, None)
        if steps and _is_drawing(steps[-1]):
            raise UsageError(f"draw is the last step of a chain; '{segment[0]}' cannot follow it")
        if chosen:
            steps.append(Subset(variable=tuple(name.strip() for text in chosen for name in text.split(","))))
        steps.append(step)
        inputs += given
        run.update({name: value for name, value in options.items() if value is not None and value is not False})
    if not inputs:
        raise UsageError(f"{words[0]}: no input; name the files to read, such as rhodolite {words[0]} data.nc")
    if "output" not in run and (_is_drawing(steps[-1]) or not getattr(steps[-1], "speaks", False)):
        suffix = (".gif" if type(steps[-1]).verb == "animation" else ".png") if _is_drawing(steps[-1]) else ".nc"
        raise UsageError(f"{words[0]}: no output; add -o FILE, such as -o result{suffix}")
    engine = make_engine(quiet, run.get("memory"), run.get("workers"), run.get("cluster"))
    layout = make_layout(run.get("format"), run.get("chunks"), run.get("compression"), bool(run.get("unlimited")))
    output = Path(run["output"]) if "output" in run else None
    chain = Chain(
        tuple(inputs),
        tuple(steps),
        output,
        bool(run.get("overwrite")),
        layout,
        run.get("group"),
        bool(run.get("members")),
        parse_number("--missing-value", run.get("missing_value")),
    )
    if run.get("plan"):
        plan = chain.plan(engine)
        assert output is not None
        say_plan(plan, output, engine)
        return
    written, said = chain.run(engine)
    for text in said:
        print(text)
    if not quiet and output is not None and written is not None:
        say(written_line(output, written, time.monotonic() - began))


def _segments(words: list[str]) -> list[list[str]]:
    segments: list[list[str]] = [[]]
    for word in words:
        if word == "then":
            segments.append([])
        else:
            segments[-1].append(word)
    if not all(segments):
        raise UsageError("'then' stands between two steps; write VERB ... then VERB ...")
    return segments


def _parse_step(segment: list[str], *, first: bool) -> tuple[Any, list[str], dict[str, Any]]:
    """Return the step that a segment describes, its inputs, and its run options."""
    from rhodolite.cli.options import step_parser
    from rhodolite.operations.declaration import parameters

    title, cls, rest = _verb_of(segment)
    parsed = vars(step_parser(title, cls).parse(rest))
    inputs = parsed.pop("inputs")
    if inputs and not first:
        raise UsageError(f"{title}: '{inputs[0]}' is not an option; inputs are named in the first step only")
    names = {declared.field for declared in parameters(cls)}
    settings = {name: value for name, value in parsed.items() if name in names and value not in (None, False)}
    return cls(**settings), inputs, {name: value for name, value in parsed.items() if name not in names}


def _verb_of(segment: list[str]) -> tuple[str, type, list[str]]:
    from rhodolite.operations.catalogue import all_operations

    verb = segment[0]
    if verb == "draw":
        from rhodolite.drawing import DRAWINGS

        kind = segment[1] if len(segment) > 1 else ""
        if kind in ("-h", "--help"):
            raise SystemExit(_print_drawings())
        if kind not in DRAWINGS:
            what = f"no drawing '{kind}'." if kind and not kind.startswith("-") else "draw what?"
            raise UsageError(f"draw: {what} {nearest_names(kind, DRAWINGS)} Write 'draw map INPUT ...'.")
        return f"draw {kind}", DRAWINGS[kind], segment[2:]
    if verb.startswith("-"):
        raise UsageError(f"'{verb}' stands where a verb belongs; options follow the verb: VERB {verb} ...")
    if verb not in all_operations():
        raise UsageError(f"no verb '{verb}'. {nearest_names(verb, _summaries())}")
    return verb, all_operations()[verb], segment[1:]


def _print_drawings() -> int:
    from rhodolite.drawing import DRAWINGS
    from rhodolite.operations.declaration import summary

    print("rhodolite draw KIND INPUT... [options] -o OUTPUT\n\nKinds")
    for kind, cls in DRAWINGS.items():
        print(f"  {kind:<12} {summary(cls)}")
    print("\n'rhodolite draw KIND --help' explains a kind and lists its options.")
    return 0


def _summaries() -> dict[str, str]:
    """Return every verb with its summary, in the order in which people work."""
    from rhodolite.operations.catalogue import summaries

    return {
        "inspect": "What a dataset holds, in people's terms.",
        "check": "Whether a dataset follows the CF conventions, and what keeps others from using it.",
        "join": "Many files as one dataset: a collection that names them, or one written file.",
        "build": "A dataset that explains itself, from tables or text grids and a description.",
        **summaries(),
        "draw": "A picture: draw map, panels, series, years, profile, section or animation.",
        "demo": "Writes made-up example data and runs the full example.",
    }


def _verb_list() -> str:
    return "".join(f"  {verb:<12} {text}\n" for verb, text in _summaries().items())


def _is_drawing(step: Any) -> bool:
    return type(step).__module__.startswith("rhodolite.drawing.")


def _terminate(*_: Any) -> None:
    raise KeyboardInterrupt
