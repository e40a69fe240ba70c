"""The record of what was done, as it is written into every output."""

from __future__ import annotations

import datetime
import os
import shlex
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from rhodolite.formats.stores.object_stores import address_of
from rhodolite.model.cf.vocabulary import STUDY
from rhodolite.model.dataset import Dataset
from rhodolite.pipeline.axis_attributes import describe_axes, without_dangling_names
from rhodolite.pipeline.content_types import describe_contents
from rhodolite.pipeline.discovery_attributes import (
    discovery_attributes,
    drop_discovery_attributes,
)
from rhodolite.version import __version__

CONVENTIONS = "CF-1.11, ACDD-1.3"
_LONGEST_STUDY = 48 << 10
"""Bytes of text that an attribute of every format can hold."""


@dataclass(frozen=True)
class Origin:
    """What was typed besides the steps: the inputs word by word, and the options about reading
    them."""

    inputs: tuple[str, ...] = ()
    options: tuple[str, ...] = ()
    study: Callable[[Dataset], str] | None = None
    """Gives the study that stands for the whole, as text, for what is written. It is called last,
    so that what is warned of on the way can be in it."""
    note: Callable[[Sequence[Path], str], None] | None = None
    """Is told which files were written, and their study."""

    def tell(self, places: Sequence[Path], dataset: Dataset) -> None:
        """Tell of files that are written, and of the study that made them.

        Parameters
        ----------
        places : sequence of Path
        dataset : Dataset
            What is in them.
        """
        # The journal is of files on this machine.
        here = [place for place in places if address_of(place) is None]
        if here and self.note is not None and self.study is not None:
            self.note(here, self.study(dataset))


def add_provenance(dataset: Dataset, origin: Origin | None = None) -> Dataset:
    """Return a dataset whose attributes say which conventions it follows and how it was made.

    Parameters
    ----------
    dataset : Dataset
    origin : Origin, optional
        What was typed besides the steps.
    """
    dataset = describe_contents(describe_axes(without_dangling_names(dataset)))
    attributes = drop_discovery_attributes(dict(dataset.attributes))
    moment = _now().strftime("%Y-%m-%dT%H:%M:%SZ")
    line = f"{moment} rhodolite {__version__}: {sentence(dataset, origin)}"
    earlier = str(attributes.get("history", "")).rstrip("\n")
    attributes["Conventions"] = CONVENTIONS
    attributes["history"] = f"{earlier}\n{line}" if earlier else line
    attributes["date_created"] = moment
    attributes.pop(STUDY, None)
    study = (
        origin.study(dataset) if origin is not None and origin.study is not None else ""
    )
    if study and len(study.encode()) <= _LONGEST_STUDY:
        attributes[STUDY] = study
    discovered = discovery_attributes(replace(dataset, attributes=attributes))
    return replace(dataset, attributes={**attributes, **discovered})


def sentence(dataset: Dataset, origin: Origin | None = None) -> str:
    """Write the steps behind a dataset as they are typed, with the inputs they began with.

    Parameters
    ----------
    dataset : Dataset
    origin : Origin, optional
        What was typed besides the steps.
    """
    given = (
        origin.inputs
        if origin is not None and origin.inputs
        else [str(file) for file in dataset.files]
    )
    named = [shlex.quote(text) for text in given] + list(
        origin.options if origin is not None else ()
    )
    steps = [_write_step(step) for step in dataset.record]
    if not steps:
        return f"written from {' '.join(named)}" if named else "written"
    first, *rest = steps
    verb, *options = first
    return " then ".join(" ".join(words) for words in [[verb, *named, *options], *rest])


def _write_step(step: Mapping[str, Any]) -> list[str]:
    words = [str(step["verb"])]
    for name, value in step.items():
        if value is True:
            words.append(f"--{name}")
        elif name != "verb":
            for text in value if isinstance(value, list) else [value]:
                words += [f"--{name}", shlex.quote(str(text))]
    return words


def _now() -> datetime.datetime:
    """Return the time to put on record, which SOURCE_DATE_EPOCH can fix for reproducible
    outputs."""
    fixed = os.environ.get("SOURCE_DATE_EPOCH")
    if fixed and fixed.isdecimal():
        return datetime.datetime.fromtimestamp(int(fixed), datetime.UTC)
    return datetime.datetime.now(datetime.UTC)
