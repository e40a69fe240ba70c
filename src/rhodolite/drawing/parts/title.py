"""The title of a figure and the line under it that says what, when and where."""

from __future__ import annotations

from typing import Any

from rhodolite.drawing.options import Size
from rhodolite.drawing.parts.text import capitalise

_TITLE, _CAPTION = 15.0, 11.0
"""Sizes in points; figures have 100 dots and 72 points to the inch."""
_SPACING = 1.25
_MARGIN = 12
_MOST_OF_HEIGHT = 0.15
"""Share of the height that a title or a caption takes; the rest of it is left out."""


def put_title(figure: Any, title: str, caption: str, size: Size) -> None:
    """Write a title and a caption at the top left of a figure, broken into lines that fit it.

    Parameters
    ----------
    figure : object
        Matplotlib figure.
    title : str
    caption : str
        Line below the title.
    size : Size
        In pixels.
    """
    at = size.height - 0.6 * _MARGIN
    for lines, points, colour in (
        (_broken(title, size, _TITLE), _TITLE, "black"),
        (_broken(caption, size, _CAPTION), _CAPTION, "#444444"),
    ):
        figure.text(
            _MARGIN / size.width,
            at / size.height,
            "\n".join(lines),
            fontsize=points,
            color=colour,
            va="top",
            linespacing=_SPACING,
        )
        at -= len(lines) * points * _SPACING * 100 / 72 + 4
    figure.get_layout_engine().set(rect=(0, 0, 1, at / size.height))


def _broken(text: str, size: Size, points: float) -> list[str]:
    """Return a text in lines that are not wider than the figure, as they will be drawn."""
    room = size.width - 2 * _MARGIN
    lines: list[str] = []
    for word in _words(capitalise(text), room, points):
        longer = f"{lines[-1]} {word}" if lines else word
        if lines and _width(longer, points) <= room:
            lines[-1] = longer
        else:
            lines.append(word)
    most = max(1, round(_MOST_OF_HEIGHT * size.height / (points * _SPACING * 100 / 72)))
    return lines if len(lines) <= most else [*lines[: most - 1], f"{lines[most - 1]} …"]


def _words(text: str, room: float, points: float) -> list[str]:
    """Return the words of a text; names without a space that are too wide are cut in pieces."""
    words = []
    for word in text.split():
        while len(word) > 1 and _width(word, points) > room:
            fitting = max(1, int(len(word) * room / _width(word, points)) - 1)
            words.append(word[:fitting])
            word = word[fitting:]
        words.append(word)
    return words


def _width(text: str, points: float) -> float:
    """Return the width of a text in pixels."""
    from matplotlib.font_manager import FontProperties
    from matplotlib.textpath import text_to_path

    width, _, _ = text_to_path.get_text_width_height_descent(
        text, FontProperties(size=points), ismath=False
    )
    return float(width) * 100 / 72
