"""Chains as people type them: segments joined by `then`, each a step with its options."""

from __future__ import annotations

import functools
import shutil
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from rhodolite.cli.console import list_words, say, say_plan, show, written_line
from rhodolite.cli.recording import Recording, tell_carried
from rhodolite.cli.verbs import ALL_VERBS
from rhodolite.errors import UsageError, nearest_names
from rhodolite.operations import is_operation, operation, operation_names

if TYPE_CHECKING:
    from rhodolite.arrays import Engine
    from rhodolite.operations.declaration import Step
    from rhodolite.pipeline.chain import Chain
    from rhodolite.studies.description import Study


_PIPES = ("-", "/dev/stdout")
"""Outputs that are no files."""


class Segment(NamedTuple):
    """One segment of a command line, parsed."""

    step: Step
    inputs: list[str]
    chosen: list[str]
    run_options: dict[str, Any]


def run_chain(words: list[str], quiet: bool) -> None:
    """Run steps joined by `then`, and say in one line what was written."""
    from rhodolite.cli.engine import make_engine

    began = time.monotonic()
    chain, options = parse_chain(words)
    engine = make_engine(quiet, options)
    if chain.output is not None and str(chain.output) in _PIPES:
        if options.get("record") or options.get("plan"):
            raise UsageError("-o -: --record and --plan need an output with a name")
        _write_to_pipe(chain, engine)
        return
    if options.get("plan"):
        plan = chain.plan(engine)
        assert chain.output is not None
        is_taken = chain.output.exists() and not chain.overwrite
        say_plan(plan, chain.output, engine, is_taken=is_taken)
        return
    study = functools.partial(_study, chain)
    recording = Recording(options.get("record"), chain.overwrite, study)
    if chain.output is not None:
        from rhodolite.studies.journal import note

        tell = functools.partial(tell_carried, study, chain.input.files, chain.output)
        chain = replace(chain, study=tell, note=note)
    outcome = chain.run(engine)
    recording.write()
    for text in outcome.said:
        show(text)
    if not quiet and chain.output is not None and outcome.written is not None:
        say(written_line(chain.output, outcome.written, time.monotonic() - began))


def _write_to_pipe(chain: Chain, engine: Engine) -> None:
    """Write a table, or a picture, to standard output, after all of it is there."""
    with tempfile.TemporaryDirectory(prefix="rhodolite-") as folder:
        place = Path(folder) / f"output{'.csv' if chain.drawing is None else '.png'}"
        outcome = replace(chain, output=place).run(engine)
        for text in outcome.said:
            say(text)
        sys.stdout.flush()
        with place.open("rb") as file:
            shutil.copyfileobj(file, sys.stdout.buffer)
        sys.stdout.buffer.flush()


def _study(chain: Chain, folder: Path) -> Study:
    from rhodolite.studies.record import study_of_chain

    return study_of_chain(chain, folder)


def parse_chain(
    words: list[str], *, to_be_written: bool = True
) -> tuple[Chain, dict[str, Any]]:
    """Return the chain that words ask for, and all run options by name.

    Parameters
    ----------
    words : list of str
        Words of the command line.
    to_be_written : bool
        Whether it needs an output.

    Raises
    ------
    UsageError
        If a step or an option is not known, or the input or the output is missing.
    """
    from rhodolite.cli.run_options import input_of, layout_of
    from rhodolite.operations.subset import Subset
    from rhodolite.pipeline.chain import Chain

    inputs: list[str] = []
    steps: list[Step] = []
    options: dict[str, Any] = {}
    for words_of_step in split_at_then(words):
        segment = parse_segment(words_of_step, first=not steps)
        if steps and steps[-1].draws:
            raise UsageError(
                f"draw is the last step of a chain; '{words_of_step[0]}' cannot follow it"
            )
        if segment.chosen:
            steps.append(Subset(variable=tuple(segment.chosen)))
        steps.append(segment.step)
        inputs += segment.inputs
        options |= segment.run_options
    if not inputs:
        raise UsageError(
            f"{words[0]}: no input; name the files to read, such as rhodolite {words[0]} data.nc"
        )
    if not to_be_written and (steps[-1].draws or "output" in options):
        raise UsageError(
            "serve: what is served is neither drawn nor written; leave draw and -o out"
        )
    if to_be_written and "output" not in options and not steps[-1].prints_result:
        raise UsageError(
            f"{words[0]}: no output; add -o FILE, such as -o result{_usual_suffix(steps[-1])}"
        )
    layout = layout_of(options, for_data=not steps[-1].draws)
    chain = Chain(
        input_of({**options, "inputs": inputs}),
        tuple(steps),
        Path(options["output"]) if "output" in options else None,
        bool(options.get("overwrite")),
        layout,
    )
    return chain, options


def split_at_then(words: list[str]) -> list[list[str]]:
    """Return the words of each step."""
    segments: list[list[str]] = [[]]
    for word in words:
        if word == "then":
            segments.append([])
        else:
            segments[-1].append(word)
    if not all(segments):
        raise UsageError(
            "'then' stands between two steps; write VERB ... then VERB ..."
        )
    return segments


def parse_segment(words: list[str], *, first: bool) -> Segment:
    """Return the step that the words of a segment describe, its inputs, and its run options.

    Parameters
    ----------
    words : list of str
        Words of the command line.
    first : bool
        Whether it is the first segment, which names the inputs.
    """
    from rhodolite.cli.options import CHOSEN, step_parser
    from rhodolite.operations.declaration import parameters

    title, cls, rest = find_step(words)
    parsed = vars(step_parser(title, cls).parse(rest))
    inputs = parsed.pop("inputs")
    if inputs and not first:
        raise UsageError(
            f"{title}: '{inputs[0]}' is not an option; inputs are named in the first step only"
        )
    chosen = [
        name.strip()
        for text in parsed.pop(CHOSEN, None) or ()
        for name in text.split(",")
    ]
    given = {
        name: value for name, value in parsed.items() if value not in (None, False)
    }
    names = {declared.field for declared in parameters(cls)}
    settings = {name: value for name, value in given.items() if name in names}
    run_options = {name: value for name, value in given.items() if name not in names}
    return Segment(cls(**settings), inputs, chosen, run_options)


def find_step(words: list[str]) -> tuple[str, type[Step], list[str]]:
    """Return the words for a step, its class, and the words that follow.

    Raises
    ------
    UsageError
        If there is no such verb or drawing.
    """
    verb = words[0]
    if verb == "draw":
        return _find_drawing(words[1:])
    if verb.startswith("-"):
        raise UsageError(
            f"'{verb}' stands where a verb belongs; options follow the verb: VERB {verb} ..."
        )
    if not is_operation(verb):
        offered = dict.fromkeys([*ALL_VERBS, *operation_names()])
        raise UsageError(f"no verb '{verb}'. {nearest_names(verb, offered)}")
    return verb, operation(verb), words[1:]


def _find_drawing(words: list[str]) -> tuple[str, type[Step], list[str]]:
    from rhodolite.drawing import SUMMARIES as DRAWINGS
    from rhodolite.drawing import drawing, drawing_names, is_drawing
    from rhodolite.operations.declaration import summary

    kind = words[0] if words else ""
    if kind in ("-h", "--help"):
        print("rhodolite draw KIND INPUT... [options] -o OUTPUT\n\nKinds")
        print(list_words(DRAWINGS), end="")
        others = {
            name: summary(drawing(name)) for name in drawing_names()[len(DRAWINGS) :]
        }
        print(list_words(others), end="")
        print("\n'rhodolite draw KIND --help' explains a kind and lists its options.")
        raise SystemExit(0)
    if not is_drawing(kind):
        what = (
            f"no drawing '{kind}'."
            if kind and not kind.startswith("-")
            else "draw what?"
        )
        raise UsageError(
            f"draw: {what} {nearest_names(kind, drawing_names())} Write 'draw map INPUT ...'."
        )
    return f"draw {kind}", drawing(kind), words[1:]


def _usual_suffix(step: Step) -> str:
    """Return a suffix that the output of a step can have."""
    from rhodolite.drawing.base import Drawing

    if not isinstance(step, Drawing):
        return ".nc"
    return ".gif" if step.moves else ".png"
