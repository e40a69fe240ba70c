"""Numbers, sizes and tables as text, and what must not reach a terminal as it is."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from typing import Any

_UNSEEN = re.compile(
    "[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200b-\u200f\u2028-\u202e\u2060-\u2069\ufeff]"
)
"""Control characters, escapes, and marks that turn the direction of text, but not tab and line."""

_LARGEST_IN_FULL = 1e7
_NOT_IN_XML = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def file_size(size: int) -> str:
    """Write a number of bytes for people."""
    value = float(size)
    for unit in ("B", "kB", "MB", "GB"):
        if value < 1000:
            return f"{value:.0f} {unit}" if unit == "B" else f"{value:.3g} {unit}"
        value /= 1000
    return f"{value:.3g} TB"


def is_unicode(name: object) -> bool:
    """Return whether a name can be written in UTF-8; the system takes any bytes for one."""
    try:
        str(name).encode("utf-8")
    except UnicodeEncodeError:
        return False
    return True


def is_number(text: str) -> bool:
    """Return whether a text is a number with a decimal point, or `nan` or `inf`."""
    try:
        float(text)
    except ValueError:
        return False
    return True


def write_number(value: float) -> str:
    """Return a number in the fewest digits that are read back as the same number."""
    return repr(shorten_number(value)).removesuffix(".0")


def percent_there(share: float) -> str:
    """Return a share in percent, of which one that lacks little is not all.

    Examples
    --------
    >>> percent_there(0.75), percent_there(0.9989), percent_there(1.0)
    ('75%', '99.8%', '100%')
    """
    if not 0.99 < share < 1:
        return f"{share:.0%}"
    return f"{math.floor(share * 1000) / 10:g}%"


def write_rounded(value: float, digits: int) -> str:
    """Return a number with so many significant digits, and all of those before the point.

    Powers of ten stand for what is below a ten-thousandth or beyond ten million alone.

    Examples
    --------
    >>> write_rounded(101325.4, 4), write_rounded(0.123456, 3), write_rounded(-2e9, 3)
    ('101325', '0.123', '-2e+09')
    """
    text = f"{value:.{digits}g}"
    return f"{value:.0f}" if "e+" in text and abs(value) < _LARGEST_IN_FULL else text


def shorten_number(value: Any) -> float:
    """Return a value as the number of fewest digits that its own precision reads back as the same.

    A value of single precision that was 278.61 is 278.60998535... when it is widened; whoever
    reads it asks for 278.61.
    """
    return float(str(value))


def number_or_none(value: Any) -> float | None:
    """Return a value in the digits of its own precision; None for one that is missing."""
    return shorten_number(value) if math.isfinite(value) else None


def align_columns(rows: Sequence[Sequence[str]]) -> list[str]:
    """Return a line for each row, in which cells of a column begin below each other."""
    widths = [max(map(len, column)) for column in zip(*rows, strict=True)]
    return [
        "  ".join(
            cell.ljust(width) for cell, width in zip(row, widths, strict=True)
        ).rstrip()
        for row in rows
    ]


def make_visible(text: str) -> str:
    """Return a text in which characters that steer a terminal are written out, such as ``\\x1b``.

    Parameters
    ----------
    text : str
        Which may hold what files say.
    """
    return _UNSEEN.sub(_write_out, text)


def cut_text(text: str, letters: int) -> str:
    """Return a text of at most so many letters, with an ellipsis for the rest."""
    return text if len(text) <= letters else text[: letters - 1].rstrip() + "…"


def make_all_visible(value: Any) -> Any:
    """Return plain values whose texts are one line each, with nothing that steers a terminal.

    Parameters
    ----------
    value : object
        Text, numbers, lists and dictionaries of these.
    """
    if isinstance(value, str):
        return make_visible(value).replace("\n", "\\n").replace("\t", " ")
    if isinstance(value, dict):
        return {
            make_all_visible(key): make_all_visible(item) for key, item in value.items()
        }
    if isinstance(value, (list, tuple)):
        return [make_all_visible(item) for item in value]
    return value


def make_json_visible(text: str) -> str:
    """Return JSON in which characters that steer a terminal are escaped as JSON has it.

    Parameters
    ----------
    text : str
        JSON.
    """
    return _UNSEEN.sub(lambda match: f"\\u{ord(match.group()):04x}", text)


def _write_out(match: re.Match[str]) -> str:
    number = ord(match.group())
    return f"\\x{number:02x}" if number < 256 else f"\\u{number:04x}"


def allowed_in_xml(text: str) -> str:
    """Return a text without the characters that XML 1.0 has no place for."""
    return _NOT_IN_XML.sub("\N{REPLACEMENT CHARACTER}", text)
