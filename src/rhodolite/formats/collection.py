"""Collections: a small TOML file that names a set of files, and is then an input like any file.

[collection]
files = ["nordic_daily_*.nc"]    # relative to the collection; patterns are expanded when it is read
overlap = "last"                 # optional: which file counts where two hold the same times
group = "/model"                 # optional: the group to read of each file
headers = "nordic.headers"       # optional: what the headers of the files say, to open them at once

[attributes]                     # optional: attributes of the dataset, added or replaced
title = "Ten years of the north"

[variables.tas]                  # optional: the same for a variable
comment = "checked by hand"
"""

from __future__ import annotations

import json
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from rhodolite.errors import DataError, nearest_names
from rhodolite.formats.concatenate import Overlap
from rhodolite.formats.header_cache import HeaderCache, Place
from rhodolite.formats.input_lists import named_from, named_in
from rhodolite.formats.many_files import carry_headers
from rhodolite.formats.open import open_dataset
from rhodolite.limits import check_nesting
from rhodolite.model.cf.given_attributes import check_given
from rhodolite.model.dataset import Dataset

_TABLES = ("collection", "attributes", "variables")
_KEYS = ("files", "overlap", "group", "headers")


def read(path: Path) -> Dataset:
    """Open the files that a collection names, with the attributes that it adds.

    Raises
    ------
    DataError
        If the collection cannot be understood, or its files do not fit together.
    """
    content = _read_toml(path)
    if "collection" not in content and {"input", "variables"} & content.keys():
        raise DataError(
            f"{path}: this describes other files; use it as rhodolite build INPUT... --description "
            f"{path}"
        )
    _check_keys(path, content, _TABLES, "table")
    described = content.get("collection", {})
    if not isinstance(described, dict):
        raise DataError(
            f"{path}: 'collection' is a table; write [collection] on a line of its own"
        )
    _check_keys(path, described, _KEYS, "key of [collection]")
    inputs = _inputs_of(path, described)
    overlap = described.get("overlap")
    if overlap is not None and overlap not in list(Overlap):
        raise DataError(f"{path}: overlap is '{overlap}'; it can be first or last")
    group = described.get("group")
    if group is not None and not isinstance(group, str):
        raise DataError(
            f'{path}: [collection] group is the name of a group, such as group = "/model"'
        )
    headers = described.get("headers")
    if headers is not None and not isinstance(headers, str):
        raise DataError(
            f'{path}: [collection] headers is the name of a file, such as headers = "all.headers"'
        )
    carried = (
        HeaderCache(path.parent / headers, folder=path.resolve().parent)
        if headers
        else None
    )
    dataset = open_dataset(
        inputs, None if overlap is None else Overlap(overlap), group, carried=carried
    )
    return _annotate(
        path, dataset, content.get("attributes", {}), content.get("variables", {})
    )


def inputs_of(path: Path) -> list[str]:
    """Return the files and patterns that a collection names, as they are named here; none where it
    is no collection.

    Parameters
    ----------
    path : Path

    Raises
    ------
    DataError
        If it cannot be understood.
    """
    described = _read_toml(path).get("collection")
    return _inputs_of(path, described) if isinstance(described, dict) else []


def _read_toml(path: Path) -> dict[str, Any]:
    try:
        raw = path.read_bytes()
        check_nesting(raw, path)
        return tomllib.loads(raw.decode("utf-8"))
    except ValueError as error:
        raise DataError(f"{path}: this is not valid TOML: {error}") from None


def _inputs_of(path: Path, described: Mapping[str, Any]) -> list[str]:
    files = described.get("files")
    if (
        not isinstance(files, list)
        or not files
        or not all(isinstance(name, str) for name in files)
    ):
        raise DataError(f'{path}: [collection] needs files = ["PATTERN", ...]')
    return [named_in(path.parent, name) for name in files]


def write_headers(path: Path, target: Path, places: Sequence[Place]) -> None:
    """Write the headers of files into a file that will lie at `target`, beside their collection.

    Parameters
    ----------
    path : Path
    target : Path
        Final name of the file.
    places : sequence of (Path, str or None)
        Files, each with the group that is read.
    """
    path.touch()
    carry_headers(HeaderCache(path, folder=target.resolve().parent), places)


def write_collection(
    path: Path,
    target: Path,
    inputs: Sequence[str],
    overlap: Overlap | None,
    group: str | None,
    headers: Path | None = None,
) -> None:
    """Write a collection to `path` that will lie at `target` and names files and patterns as typed
    here.

    Parameters
    ----------
    path : Path
    target : Path
        Final name of the file.
    inputs : sequence of str
        Files, patterns and addresses.
    overlap : Overlap, optional
        Which file counts for times that two hold.
    group : str, optional
        Group to read of files that have groups.
    headers : Path, optional
        File in the same folder that holds the headers of the inputs.
    """
    folder = target.resolve().parent
    names = [named_from(name, folder) for name in inputs]
    lines = ["[collection]", f"files = {json.dumps(names, ensure_ascii=False)}"]
    if overlap is not None:
        lines.append(f'overlap = "{overlap}"')
    if group is not None:
        lines.append(f"group = {json.dumps(group)}")
    if headers is not None:
        lines.append(f"headers = {json.dumps(headers.name, ensure_ascii=False)}")
    path.write_text("\n".join(lines) + "\n", encoding="utf-8")


def _annotate(
    path: Path,
    dataset: Dataset,
    attributes: Mapping[str, Any],
    variables: Mapping[str, Any],
) -> Dataset:
    annotated = dict(dataset.variables)
    if not isinstance(variables, Mapping):
        raise DataError(
            f"{path}: [variables] has a table for each, such as [variables.tas]"
        )
    for name, added in variables.items():
        if name not in annotated:
            raise DataError(
                f"{path}: [variables.{name}]: no such variable. {nearest_names(name, annotated)}"
            )
        given = check_given(f"{path}: [variables.{name}]", added)
        annotated[name] = annotated[name].edit(**given)
    whole = {**dataset.attributes, **check_given(f"{path}: [attributes]", attributes)}
    return replace(dataset, variables=annotated, attributes=whole)


def _check_keys(
    path: Path, table: Mapping[str, Any], known: Sequence[str], what: str
) -> None:
    for key in table:
        if key not in known:
            raise DataError(
                f"{path}: there is no {what} '{key}'. {nearest_names(key, known)}"
            )
