"""Fields as pictures: which cell is beneath each pixel, values between cells, and legends."""

from __future__ import annotations

import io
from collections.abc import Sequence
from typing import Any

import numpy as np
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.cm import ScalarMappable
from matplotlib.colorbar import Colorbar
from matplotlib.figure import Figure
from matplotlib.patches import Patch
from PIL import Image

from rhodolite.arrays import Array
from rhodolite.drawing.parts.class_colours import Classes
from rhodolite.drawing.parts.colour_scale import colours
from rhodolite.drawing.parts.text import capitalise
from rhodolite.kernels.sphere import shortest_turn
from rhodolite.model.axes import Role
from rhodolite.model.space.axis_cells import covers_globe
from rhodolite.model.units.udunits import pretty
from rhodolite.server.layers import Layer, Picks
from rhodolite.server.map_systems import Window

_MILLISECONDS = 500
"""For which a map of a film is seen."""


def pixels_of(layer: Layer, field: Array, window: Window, *, smooth: bool) -> Array:
    """Return the value at each pixel, NaN where there is none."""
    latitudes, longitudes = window.places()
    grid = layer.grid
    # A map that goes round the world more than once repeats itself; beyond the poles is nothing.
    if not grid.regular:
        down, across = np.broadcast_arrays(latitudes, longitudes)
        known = np.isfinite(down) & np.isfinite(across)
        down, across = np.where(known, down, 0.0), np.where(known, across, 0.0)
        cells = grid.nearest(np.clip(down, -90, 90), across).reshape(known.shape)
        return np.where(known & (cells >= 0), field.ravel()[cells], np.nan)
    rows, columns = grid.rows(latitudes), grid.columns(longitudes)
    inside = (rows >= 0) & (columns >= 0)
    # There is nothing between two classes.
    if not smooth or layer.classes is not None:
        return np.where(inside, field[rows, columns], np.nan)
    mixed = _between(layer, field, latitudes, longitudes, rows, columns)
    return np.where(inside, mixed, np.nan)


def _between(
    layer: Layer,
    field: Array,
    latitudes: Array,
    longitudes: Array,
    rows: Array,
    columns: Array,
) -> Array:
    """Return values interpolated between the centres of cells; those of the cell itself where a
    neighbour is missing."""
    dataset = layer.served.dataset
    centres = [dataset.need(role).values for role in (Role.LATITUDE, Role.LONGITUDE)]
    below, down = _neighbours(centres[0], rows, latitudes, turns=False, wraps=False)
    beside, across = _neighbours(
        centres[1], columns, longitudes, turns=True, wraps=covers_globe(centres[1])
    )
    here = field[rows, columns]
    mixed = (
        here * (1 - down) * (1 - across)
        + field[below, columns] * down * (1 - across)
        + field[rows, beside] * (1 - down) * across
        + field[below, beside] * down * across
    )
    return np.asarray(np.where(np.isfinite(mixed), mixed, here))


def _neighbours(
    centres: Array, cells: Array, places: Array, *, turns: bool, wraps: bool
) -> tuple[Array, Array]:
    """Return the cell on the other side of each place, and how far the place is on the way to its
    centre, from 0 to 1; `turns` where places a turn apart are the same."""
    gap = places - centres[cells]
    if turns:
        gap = shortest_turn(gap)
    rising = 1 if len(centres) < 2 or centres[1] > centres[0] else -1
    beside = cells + np.where(gap * rising >= 0, 1, -1)
    count = len(centres)
    beside = beside % count if wraps else np.clip(beside, 0, count - 1)
    width = centres[beside] - centres[cells]
    if turns:
        width = shortest_turn(width)
    share = np.where(width == 0, 0.0, gap / np.where(width == 0, 1.0, width))
    return beside, np.clip(share, 0, 1)


def write_png(
    numbers: Array, shades: Array, background: tuple[int, int, int] | None = None
) -> bytes:
    """Return a picture of numbers of colours.

    Parameters
    ----------
    numbers : ndarray of uint8
        0 where there is nothing.
    shades : ndarray of uint8, shape (n, 4)
    background : tuple of int, optional
        Red, green and blue where there is nothing, which is clear by default.
    """
    clear = background is None
    if background is not None:
        shades = shades.copy()
        shades[0] = (*background, 255)
    image = Image.fromarray(numbers, mode="P")
    image.putpalette(shades[:, :3].tobytes(), "RGB")
    buffer = io.BytesIO()
    image.save(
        buffer, "PNG", compress_level=1, **({"transparency": 0} if clear else {})
    )
    return buffer.getvalue()


def write_picture(
    painted: Sequence[tuple[Array, Array]],
    media: str,
    background: tuple[int, int, int] | None = None,
) -> bytes:
    """Return a picture of several layers, the lowest first, or in another format than PNG.

    Parameters
    ----------
    painted : sequence of tuple
        Numbers of colours and the colours of each layer, as for `write_png`.
    media : str
        ``image/png``, ``image/webp`` or ``image/jpeg``.
    background : tuple of int, optional
        Red, green and blue where there is nothing; clear by default, and white in JPEG, which knows
        nothing clear.
    """
    if background is None and media == "image/jpeg":
        background = (255, 255, 255)
    image = _composed(painted, background)
    buffer = io.BytesIO()
    if media == "image/jpeg":
        image.convert("RGB").save(buffer, "JPEG", quality=90)
    elif media == "image/webp":
        image.save(buffer, "WEBP", lossless=True, method=1)
    else:
        image.save(buffer, "PNG", compress_level=1)
    return buffer.getvalue()


def write_film(
    frames: Sequence[Sequence[tuple[Array, Array]]],
    background: tuple[int, int, int] | None = None,
) -> bytes:
    """Return a GIF of several maps, one after another.

    Parameters
    ----------
    frames : sequence of sequence of tuple
        Of each map what `write_picture` takes.
    background : tuple of int, optional
    """
    pictures = [_composed(painted, background) for painted in frames]
    buffer = io.BytesIO()
    pictures[0].save(
        buffer,
        "GIF",
        save_all=True,
        append_images=pictures[1:],
        duration=_MILLISECONDS,
        loop=0,
        disposal=2,
    )
    return buffer.getvalue()


def _composed(
    painted: Sequence[tuple[Array, Array]], background: tuple[int, int, int] | None
) -> Image.Image:
    """Return several layers above each other, the lowest first."""
    rows, columns = painted[0][0].shape
    ground = (0, 0, 0, 0) if background is None else (*background, 255)
    image = Image.new("RGBA", (columns, rows), ground)
    for numbers, shades in painted:
        image.alpha_composite(Image.fromarray(shades[numbers], mode="RGBA"))
    return image


def draw_legend(
    layer: Layer,
    palette: str | None,
    limits: tuple[float | None, float | None],
    picks: Picks,
) -> bytes:
    """Return a legend with units as a picture.

    Parameters
    ----------
    layer : Layer
    palette : str, optional
        Name of a Matplotlib colour map.
    limits : tuple of float or None
    picks : tuple
        The level that it is for.
    """
    if layer.classes is not None:
        return _draw_classes(layer.classes, palette)
    scale, centre, _ = layer.scale(palette, limits, picks)
    shades, norm = colours(scale, centre)
    figure = Figure((1.3, 3.2), dpi=100)
    FigureCanvasAgg(figure)
    axes = figure.add_axes((0.08, 0.05, 0.22, 0.84))
    extend: Any = scale.extend
    bar = Colorbar(axes, ScalarMappable(norm, shades), extend=extend)
    bar.ax.tick_params(labelsize=8, length=2)
    figure.text(0.08, 0.93, pretty(layer.variable.units), fontsize=8, parse_math=False)
    return _as_png(figure)


def _draw_classes(classes: Classes, palette: str | None) -> bytes:
    """Return a picture of a word beside each colour, the highest class above."""
    shades, _ = classes.colours(palette)
    count, longest = len(classes.words), max(map(len, classes.words))
    figure = Figure((0.5 + 0.075 * longest, 0.1 + 0.22 * count), dpi=100)
    FigureCanvasAgg(figure)
    colours_of_words = [Patch(color=shades(at)) for at in reversed(range(count))]
    figure.legend(
        colours_of_words,
        [capitalise(word) for word in reversed(classes.words)],
        loc="center left",
        fontsize=8,
        frameon=False,
        borderaxespad=0.2,
        handlelength=1.2,
    )
    return _as_png(figure)


def _as_png(figure: Figure) -> bytes:
    buffer = io.BytesIO()
    figure.savefig(buffer, format="png", metadata={"Software": "rhodolite"})
    return buffer.getvalue()
