"""The record of what was done, as it is written into every output."""

from __future__ import annotations

import datetime
import os
import shlex
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from rhodolite.model.dataset import Dataset
from rhodolite.study.discovery import discovery_attributes, without_discovery
from rhodolite.version import __version__

CONVENTIONS = "CF-1.11"


def with_provenance(dataset: Dataset) -> Dataset:
    """Return a dataset whose attributes say which conventions it follows and how it was made."""
    attributes = without_discovery(dict(dataset.attributes))
    moment = _now().strftime("%Y-%m-%dT%H:%M:%SZ")
    line = f"{moment} rhodolite {__version__}: {sentence(dataset)}"
    earlier = str(attributes.get("history", "")).rstrip("\n")
    attributes["Conventions"] = CONVENTIONS
    attributes["history"] = f"{earlier}\n{line}" if earlier else line
    attributes["date_created"] = moment
    attributes |= discovery_attributes(dataset)
    return replace(dataset, attributes=attributes)


def sentence(dataset: Dataset) -> str:
    """Write the steps behind a dataset as they are typed, with the files they began with."""
    files = [shlex.quote(file.name) for file in dataset.files]
    named = files if len(files) <= 3 else [files[0], "...", files[-1]]
    steps = [_typed(step) for step in dataset.record]
    if not steps:
        return f"written from {' '.join(named)}" if named else "written"
    first, *rest = steps
    verb, *options = first
    return " then ".join(" ".join(words) for words in [[verb, *named, *options], *rest])


def _typed(step: Mapping[str, Any]) -> list[str]:
    words = [str(step["verb"])]
    for name, value in step.items():
        if value is True:
            words.append(f"--{name}")
        elif name != "verb":
            for text in value if isinstance(value, list) else [value]:
                words += [f"--{name}", shlex.quote(str(text))]
    return words


def _now() -> datetime.datetime:
    """Return the time to put on record, which SOURCE_DATE_EPOCH can fix for reproducible outputs."""
    fixed = os.environ.get("SOURCE_DATE_EPOCH")
    if fixed and fixed.isdigit():
        return datetime.datetime.fromtimestamp(int(fixed), datetime.UTC)
    return datetime.datetime.now(datetime.UTC)
