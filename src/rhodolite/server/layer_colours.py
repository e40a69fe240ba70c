"""The colours of layers as numbers, by which pictures are put together."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from rhodolite.arrays import Array
from rhodolite.drawing.parts.class_colours import Classes
from rhodolite.drawing.parts.colour_scale import Scale, colours


class Colours(NamedTuple):
    """How the values of a layer become colours, by numbers."""

    scale: Scale
    centre: float | None
    shades: Array


def paint(field: Array, scale: Scale) -> Array:
    """Return values as numbers of colours, of which 0 is nothing."""
    numbers = np.searchsorted(scale.edges, field, side="right").astype(np.uint8) + 1
    # The upper edge belongs to the last class.
    numbers = np.where(field == scale.edges[-1], scale.edges.size, numbers)
    return np.asarray(np.where(np.isfinite(field), numbers, 0), dtype=np.uint8)


def colours_of_classes(classes: Classes, palette: str | None) -> Colours:
    shades, _ = classes.colours(palette)
    inner = shades(np.arange(len(classes.words)))
    table = np.vstack([[0.0, 0.0, 0.0, 0.0], inner[0], inner, inner[-1]])
    scale = Scale(palette or "", classes.limits, "neither")
    return Colours(scale, None, np.asarray(np.rint(table * 255), dtype=np.uint8))


def shades_of(scale: Scale, centre: float | None) -> Array:
    """Return the colours of the numbers that `paint` gives, as red, green, blue and alpha up to
    255."""
    palette, norm = colours(scale, centre)
    inner = palette(norm((scale.edges[1:] + scale.edges[:-1]) / 2))
    table = np.vstack(
        [[0.0, 0.0, 0.0, 0.0], palette.get_under(), inner, palette.get_over()]
    )
    return np.asarray(np.rint(table * 255), dtype=np.uint8)
