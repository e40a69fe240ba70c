"""The title of a figure and the line under it that says what, when and where."""

from __future__ import annotations

import textwrap
from typing import Any

from rhodolite.drawing.parameters import Size
from rhodolite.drawing.wording import capitalised

_TITLE, _CAPTION = 15.0, 11.0
"""Sizes in points; figures have 100 dots and 72 points to the inch."""
_SPACING = 1.25
_LETTER = 0.71
"""Width of a letter in pixels for each point of its size, on average."""
_MARGIN = 12


def put_title(figure: Any, title: str, caption: str, size: Size) -> None:
    """Write a title and a caption at the top left of a figure, broken into lines that fit it."""
    at = size.height - 0.6 * _MARGIN
    for lines, points, colour in ((_broken(title, size, _TITLE), _TITLE, "black"),
                                  (_broken(caption, size, _CAPTION), _CAPTION, "#444444")):  # fmt: skip
        figure.text(_MARGIN / size.width, at / size.height, "\n".join(lines), fontsize=points, color=colour,
                    va="top", linespacing=_SPACING)  # fmt: skip
        at -= len(lines) * points * _SPACING * 100 / 72 + 4
    figure.get_layout_engine().set(rect=(0, 0, 1, at / size.height))


def _broken(text: str, size: Size, points: float) -> list[str]:
    letters = max(20, int((size.width - 2 * _MARGIN) / (points * _LETTER)))
    return textwrap.wrap(capitalised(text), letters)
