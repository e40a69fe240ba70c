"""Studies as text: of a study file, and of a chain that somebody has typed."""

from __future__ import annotations

import json
import os
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from rhodolite.errors import RhodoliteWarning, UsageError, sum_up_warnings
from rhodolite.formats.input_lists import named_from
from rhodolite.formats.layout import Layout
from rhodolite.model.dataset import Dataset
from rhodolite.model.typed_value import FileValue
from rhodolite.operations.declaration import Step, parameters, to_plain
from rhodolite.pipeline.chain import Chain
from rhodolite.pipeline.inputs import Input
from rhodolite.studies.description import NamedStep, Output, Report, Study
from rhodolite.studies.fingerprints import files_named, fingerprint
from rhodolite.version import __version__

_MOST_WARNINGS = 20
_MOST_FILES = 100
"""Files that are named with their checksums; of more, only the number is told."""


def write_study(study: Study, making: Mapping[str, Any] | None = None) -> str:
    """Return the text of a study file.

    Parameters
    ----------
    study : Study
    making : mapping of str to object, optional
        What is said of how it was made; with it come the parameters that have their default, which
        may be another one in another version.
    """
    full = making is not None
    tables = [f"title = {_text(study.title)}"] if study.title else []
    tables += [_input_table(entry) for entry in study.inputs.values()]
    tables += [
        _table(
            ("steps", name),
            {"of": entry.of, "do": entry.kind.verb, **_plain(entry, full)},
        )
        for name, entry in study.steps.items()
    ]
    tables += [_output_table(output, full) for output in study.outputs.values()]
    tables += [_report_table(report) for report in study.reports.values()]
    tables += [_table(("made",), making)] if making else []
    return "\n\n".join(tables) + "\n"


def restrict_study(study: Study, path: str) -> Study:
    """Return the part of a study that makes one of its outputs.

    Parameters
    ----------
    study : Study
    path : str
        Of the output; with a report come the outputs that it shows.
    """
    reports = {path: study.reports[path]} if path in study.reports else {}
    shown = reports[path].shows if reports else (path,)
    needed, left = (
        set(),
        [name for output in shown for name in study.outputs[output].needs],
    )
    while left:
        name = left.pop()
        needed.add(name)
        left += study.steps[name].needs if name in study.steps else ()
    return replace(
        study,
        inputs={
            name: output for name, output in study.inputs.items() if name in needed
        },
        steps={name: output for name, output in study.steps.items() if name in needed},
        outputs={fromkey: study.outputs[fromkey] for fromkey in dict.fromkeys(shown)},
        reports=reports,
    )


def move_study(study: Study, folder: Path) -> Study:
    """Return a study whose paths are written as seen from another folder.

    Parameters
    ----------
    study : Study
        As seen from the folder that this is called in.
    folder : Path
    """
    inputs = {name: _moved_input(entry, folder) for name, entry in study.inputs.items()}
    steps = {name: _moved_step(entry, folder) for name, entry in study.steps.items()}
    outputs = {
        name: replace(
            entry,
            picture=None
            if entry.picture is None
            else _moved_step(entry.picture, folder),
        )
        for name, entry in study.outputs.items()
    }
    return replace(study, inputs=inputs, steps=steps, outputs=outputs)


def _moved_input(source: Input, folder: Path) -> Input:
    described = (
        None if source.description is None else named_from(source.description, folder)
    )
    files = tuple(named_from(text, folder) for text in source.files)
    return replace(source, files=files, description=described)


def _moved_step(step: NamedStep, folder: Path) -> NamedStep:
    moved = {
        field: _moved_value(value, folder) for field, value in step.settings.items()
    }
    return replace(step, settings=moved)


def tell_making(
    inputs: Iterable[str],
    folder: Path,
    dataset: Dataset,
    warned: Sequence[RhodoliteWarning] = (),
) -> dict[str, Any]:
    """Return what is to be known of how an output was made: by which version, from which files,
    and what was said and taken for granted.

    Parameters
    ----------
    inputs : iterable of str
        Files and patterns, as seen from the folder that this is called in.
    folder : Path
        From where they are named.
    dataset : Dataset
        What is written or drawn.
    warned : sequence of RhodoliteWarning
    """
    paths = files_named(inputs)
    making: dict[str, Any] = {"version": __version__, "files": len(paths)}
    if len(paths) <= _MOST_FILES:
        making["from"] = [
            [named_from(str(path), folder), *fingerprint(path).values()]
            for path in paths
        ]
    if dataset.time is not None:
        making["calendar"] = dataset.time.calendar
    said = sum_up_warnings(warned)
    if said:
        making["warnings"] = said[:_MOST_WARNINGS]
    return making


def study_of_chain(chain: Chain, folder: Path) -> Study:
    """Return the study that a chain stands for.

    Parameters
    ----------
    chain : Chain
    folder : Path
        Where the study will lie; paths are relative to it.

    Raises
    ------
    UsageError
        If the output does not lie in that folder.
    """
    if chain.output is None:
        raise UsageError("a study needs an output; add -o FILE")
    output = _output_below(chain.output, folder)
    data = _moved_input(chain.input, folder)
    steps: dict[str, NamedStep] = {}
    of, picture = data.name, None
    for step in chain.steps:
        # What is written beside an output is no part of how the output is made.
        settings = {
            parameter.field: _moved_value(getattr(step, parameter.field), folder)
            for parameter in parameters(type(step))
            if str(getattr(step, parameter.field)) not in step.writes()
        }
        if step is chain.drawing:
            picture = NamedStep(str(output), of, settings, type(step), {})
            continue
        name = _free_name(step.verb, steps)
        steps[name] = NamedStep(name, of, settings, type(step), {})
        of = name
    result = Output(output.as_posix(), of, chain.layout, picture)
    return Study(
        folder / "study.toml", "", {data.name: data}, steps, {result.path: result}
    )


def study_of_input(source: Input, output: Path, layout: Layout, folder: Path) -> Study:
    """Return the study that writes an input as it is read.

    Parameters
    ----------
    source : Input
    output : Path
    layout : Layout
        How the output is to lie on disk.
    folder : Path
        Where the study will lie; paths are relative to it.

    Raises
    ------
    UsageError
        If the output does not lie in that folder.
    """
    result = Output(_output_below(output, folder).as_posix(), source.name, layout, None)
    inputs = {source.name: _moved_input(source, folder)}
    return Study(folder / "study.toml", "", inputs, {}, {result.path: result})


def _output_below(output: Path, folder: Path) -> Path:
    """Return an output as it is named from a folder that holds it."""
    named = Path(os.path.relpath(output.absolute(), folder.absolute()))
    if ".." in named.parts:
        raise UsageError(
            f"the study in {folder} cannot have the output {output}, since outputs lie in the "
            "folder of their study or below; write it into a folder above"
        )
    return named


def _free_name(verb: str, taken: Mapping[str, Any]) -> str:
    number = 1 + sum(name.partition("_")[0] == verb for name in taken)
    return verb if number == 1 else f"{verb}_{number}"


def _moved_value(value: Any, folder: Path) -> Any:
    """Return a value that names files as it is written from another folder."""
    if not isinstance(value, FileValue):
        return value
    return value.renamed(
        lambda text: named_from(text, folder) if files_named([text]) else text
    )


def _plain(named: NamedStep, full: bool) -> dict[str, Any]:
    """Return the parameters that differ from the default, or `full`, all that have a value, by
    their names."""
    names = {declared.field: declared.name for declared in parameters(named.kind)}
    others = {names[field]: name for field, name in named.others.items()}
    # Parameters that need others to make sense are checked only when all are there.
    step: Step = named.kind.__new__(named.kind)
    for declared in parameters(named.kind):
        object.__setattr__(
            step, declared.field, named.settings.get(declared.field, declared.default)
        )
    settings = {
        key: value
        for key, value in to_plain(step, defaults=full).items()
        if key != "verb"
    }
    chosen = {"variable": list(named.variables)} if named.variables else {}
    return {**chosen, **settings, **others}


def _input_table(source: Input) -> str:
    files: Any = source.files[0] if len(source.files) == 1 else list(source.files)
    table = {
        "files": files,
        "group": source.group,
        "missing-value": source.missing_value,
        "members": source.members or None,
        "overlap": None if source.overlap is None else str(source.overlap.value),
        "variable": list(source.variables) or None,
        "description": source.description,
        **source.rules.settings(),
    }
    return _table(("inputs", source.name), table)


def _report_table(report: Report) -> str:
    table = {"report": list(report.shows), "text": report.text or None}
    return _table(("outputs", report.path), table)


def _output_table(output: Output, full: bool) -> str:
    said = {"heading": output.heading or None, "note": output.note or None}
    if output.picture is not None:
        kind = output.picture.kind.verb.removeprefix("draw ")
        table = {"of": output.of, "draw": kind, **_plain(output.picture, full), **said}
        return _table(("outputs", output.path), table)
    usual, layout = Layout(), output.layout
    options = {
        "format": layout.variant,
        "chunks": None if layout.chunks is None else str(layout.chunks.value),
        "compression": None
        if layout.compression is usual.compression
        else str(layout.compression.value),
        "unlimited": layout.unlimited or None,
        "checksums": None if layout.checksums else False,
        **layout.table.settings(),
    }
    return _table(("outputs", output.path), {"of": output.of, **options, **said})


def _table(place: tuple[str, ...], table: Mapping[str, Any]) -> str:
    lines = [f"[{'.'.join(_key(word) for word in place)}]"]
    lines += [
        f"{_key(key)} = {_text(value)}"
        for key, value in table.items()
        if value is not None
    ]
    return "\n".join(lines)


def _key(word: str) -> str:
    bare = word.isascii() and word.replace("-", "").replace("_", "").isalnum()
    return word if bare else _text(word)


def _text(value: Any) -> str:
    """Return a value as TOML has it; strings of JSON are strings of TOML but for one sign."""
    if isinstance(value, (bool, int, str)):
        return json.dumps(value, ensure_ascii=False).replace("\x7f", "\\u007f")
    if isinstance(value, float):
        return repr(value)
    return f"[{', '.join(_text(item) for item in value)}]"
