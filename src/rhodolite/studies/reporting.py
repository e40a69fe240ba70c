"""What a report says of each output of a study: its numbers, and how it was made, in words."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from rhodolite.arrays import Engine
from rhodolite.drawing.base import Drawing
from rhodolite.errors import collecting
from rhodolite.formats.open import open_dataset
from rhodolite.inspection.page import dataset_page
from rhodolite.inspection.summary import describe
from rhodolite.model.dataset import Dataset
from rhodolite.operations.declaration import Step, summary, to_plain
from rhodolite.reports.numbers import Trends, sentences_of
from rhodolite.reports.page import embed_picture, read_rows
from rhodolite.reports.section import Section
from rhodolite.reports.sources import sources_of
from rhodolite.studies.description import NamedStep, Output, Study

_CURVES = ("series", "years")


def section_of(
    study: Study,
    output: Output,
    place: Path,
    dataset: Dataset,
    steps: list[tuple[NamedStep, Step]],
    engine: Engine,
) -> Section:
    """Return what a report says of an output that is there.

    Parameters
    ----------
    study : Study
    output : Output
    place : Path
        Of its file.
    dataset : Dataset
        What it was written or drawn of.
    steps : list of tuple
        The steps that led to it, the drawing included, in order.
    engine : Engine
    """
    path = [step for _, step in steps]
    table = page = None
    if output.picture is not None:
        drawing: Any = path[-1]
        with collecting():  # what there is to warn of has been said where it was drawn
            shown = drawing.shown(dataset)
        sentences = sentences_of(shown, engine, _trends(drawing, path))
    elif place.suffix.lower() == ".csv" and place.exists():
        table, sentences = read_rows(place), ()
    else:
        written = open_dataset([place]) if place.exists() else dataset
        about = describe(written, engine)
        if len(about["files"]) == 1:
            about["files"][0]["name"] = output.path  # wherever it lies
        page, sentences = dataset_page(about), ()
    return Section(
        output.path,
        output.heading or output.path,
        output.note,
        "" if output.picture is None else embed_picture(place),
        sentences,
        table,
        page or "",
        (
            *_of_inputs(study, output),
            *(_in_words(named, step) for named, step in steps),
        ),
        sources_of(path),
    )


def _trends(drawing: Step, steps: list[Step]) -> Trends:
    """Return which trends are told: those that are drawn, and those of departures, of which a
    straight line says something."""
    if drawing.verb not in _CURVES:
        return Trends.NONE
    if getattr(drawing, "without_cycle", False):
        return Trends.WITHOUT_CYCLE
    if getattr(drawing, "trend", False):
        return Trends.OF_VALUES
    departures = any(step.verb in ("anomaly", "detrend") for step in steps)
    return Trends.OF_LONG_ONES if departures else Trends.NONE


def _of_inputs(study: Study, output: Output) -> tuple[str, ...]:
    """Return the files that an output begins with."""
    left, inputs = list(output.needs), []
    while left:
        name = left.pop(0)
        if name in study.inputs:
            inputs.append(f"{name}: {', '.join(study.inputs[name].files)}")
        else:
            left += study.steps[name].needs
    return tuple(dict.fromkeys(inputs))


def _in_words(named: NamedStep, step: Step) -> str:
    """Return a step as it is typed, with what it does."""
    words = [f"draw {step.verb}" if isinstance(step, Drawing) else step.verb]
    plain = {key: value for key, value in to_plain(step).items() if key != "verb"}
    if named.variables:
        plain = {"variable": ",".join(named.variables), **plain}
    for key, value in plain.items():
        setting = named.others.get(key, value)
        setting = (
            ",".join(map(str, setting))
            if isinstance(setting, (list, tuple))
            else setting
        )
        words.append(f"--{key}" if setting is True else f"--{key} {setting}")
    text = summary(type(step))
    return f"{' '.join(words)}: {text[:1].lower()}{text[1:]}"
