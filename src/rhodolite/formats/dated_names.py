"""Files chosen by the dates in their names: `nordic_{year:2012..2016}.nc`."""

from __future__ import annotations

import glob
import re
from pathlib import Path

from rhodolite.errors import DataError, UsageError, nearest_names
from rhodolite.formats.text.filename_pattern import DATE_FIELDS, FilePattern

_FIELD = re.compile(r"\{(\w+)(?::(\d+)(?:\.\.(\d+))?)?\}")


def find_dated(text: str) -> list[Path]:
    """Return the files, in order, whose names have dates where a text has fields; none where it has
    no fields.

    Parameters
    ----------
    text : str
        Such as ``{year}/rain_{month:6..8}.nc``, where a field can say from which to which number.

    Raises
    ------
    UsageError
        If there is no such field.
    DataError
        If no file fits, or none of those that fit is of such a date.
    """
    fields = list(_FIELD.finditer(text))
    if not fields:
        return []
    for field in fields:
        if field.group(1) not in DATE_FIELDS:
            raise UsageError(
                f"{text}: there is no field '{{{field.group(1)}}}' in names of inputs. "
                f"{nearest_names(field.group(1), DATE_FIELDS)}"
            )
    pattern = FilePattern(_FIELD.sub(r"{\1}", text))
    somewhere = glob.escape(_FIELD.sub("\0", text)).replace("\0", "*")
    dates = {path: pattern.read(path) for path in sorted(glob.glob(somewhere))}  # noqa: PTH207
    fitting = {path: date for path, date in dates.items() if date is not None}
    if not fitting:
        raise DataError(
            f"{text}: no file has such a name; {pattern.text} is what is looked for"
        )
    chosen = [Path(path) for path, date in fitting.items() if _is_within(fields, date)]
    if not chosen:
        first, last = min(fitting), max(fitting)
        raise DataError(
            f"{text}: no file is of such a date; there are {len(fitting):,}, {first} to {last}"
        )
    return chosen


def _is_within(fields: list[re.Match[str]], date: dict[str, str]) -> bool:
    """Return whether each part of a date lies from one number to another, where these are given."""
    for name, first, last in (field.groups() for field in fields):
        if first is not None and not int(first) <= int(date[name]) <= int(
            last or first
        ):
            return False
    return True
