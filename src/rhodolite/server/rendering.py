"""Fields as pictures: which cell is beneath each pixel, values between cells, and legends."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.cm import ScalarMappable
from matplotlib.colorbar import Colorbar
from matplotlib.figure import Figure
from PIL import Image

from rhodolite.arrays import Array
from rhodolite.drawing.parts.colour_scale import colours
from rhodolite.model.axes import Role
from rhodolite.model.space.axis_cells import covers_globe
from rhodolite.model.units.udunits import pretty
from rhodolite.server.layers import Layer, Picks

EARTH_RADIUS = 6378137.0
"""Of the sphere of EPSG:3857, in metres."""
SYSTEMS = {"EPSG:4326": "geographic", "CRS:84": "geographic", "EPSG:3857": "mercator"}


@dataclass(frozen=True)
class Window:
    """The part of the world that a map shows.

    Parameters
    ----------
    crs : str
    west, south, east, north : float
        In degrees, or in metres of the Mercator projection.
    width, height : int
        In pixels.
    """

    crs: str
    west: float
    south: float
    east: float
    north: float
    width: int
    height: int

    def longitudes(self, columns: Array | None = None) -> Array:
        """Return the longitude of each column of pixels, or of some, which may lie beyond."""
        columns = np.arange(self.width) if columns is None else columns
        x = self.west + (self.east - self.west) / self.width * (columns + 0.5)
        return x if SYSTEMS[self.crs] == "geographic" else np.degrees(x / EARTH_RADIUS)

    def latitudes(self, rows: Array | None = None) -> Array:
        """Return the latitude of each row of pixels, from above, or of some, which may lie
        beyond."""
        rows = np.arange(self.height) if rows is None else rows
        y = self.north - (self.north - self.south) / self.height * (rows + 0.5)
        if SYSTEMS[self.crs] == "geographic":
            return y
        return np.asarray(np.degrees(np.arctan(np.sinh(y / EARTH_RADIUS))))


def pixels_of(layer: Layer, field: Array, window: Window, *, smooth: bool) -> Array:
    """Return the value at each pixel, NaN where there is none."""
    latitudes, longitudes = window.latitudes(), window.longitudes()
    grid = layer.grid
    # A map that goes round the world more than once repeats itself; beyond the poles is nothing.
    if not grid.regular:
        across, down = np.meshgrid(longitudes, latitudes)
        cells = grid.nearest(np.clip(down, -90, 90), across)
        values = np.where(cells >= 0, field.ravel()[cells], np.nan)
        return values.reshape(down.shape)
    rows, columns = grid.rows(latitudes), grid.columns(longitudes)
    inside = (rows >= 0)[:, None] & (columns >= 0)[None, :]
    if not smooth:
        return np.where(inside, field[np.ix_(rows, columns)], np.nan)
    return np.where(
        inside, _between(layer, field, latitudes, longitudes, rows, columns), np.nan
    )


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
    round_the_world = covers_globe(centres[1])
    parts = []
    for values, cells, places, wraps in (
        (centres[0], rows, latitudes, False),
        (centres[1], columns, longitudes, round_the_world),
    ):
        gap = places - values[cells]
        if wraps or values is centres[1]:
            gap = (gap + 180) % 360 - 180
        rising = 1 if len(values) < 2 or values[1] > values[0] else -1
        beside = cells + np.where(gap * rising >= 0, 1, -1)
        beside = beside % len(values) if wraps else np.clip(beside, 0, len(values) - 1)
        width = values[beside] - values[cells]
        if values is centres[1]:
            width = (width + 180) % 360 - 180
        share = np.where(width == 0, 0.0, gap / np.where(width == 0, 1.0, width))
        parts.append((beside, np.clip(share, 0, 1)))
    (below, down), (beside, across) = parts
    down, across = down[:, None], across[None, :]
    here = field[np.ix_(rows, columns)]
    mixed = (
        here * (1 - down) * (1 - across)
        + field[np.ix_(below, columns)] * down * (1 - across)
        + field[np.ix_(rows, beside)] * (1 - down) * across
        + field[np.ix_(below, beside)] * down * across
    )
    return np.asarray(np.where(np.isfinite(mixed), mixed, here))


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
    rows, columns = painted[0][0].shape
    opaque = background is not None or media == "image/jpeg"
    ground = (*(background or (255, 255, 255)), 255) if opaque else (0, 0, 0, 0)
    image = Image.new("RGBA", (columns, rows), ground)
    for numbers, shades in painted:
        image.alpha_composite(Image.fromarray(shades[numbers], mode="RGBA"))
    buffer = io.BytesIO()
    if media == "image/jpeg":
        image.convert("RGB").save(buffer, "JPEG", quality=90)
    elif media == "image/webp":
        image.save(buffer, "WEBP", lossless=True, method=1)
    else:
        image.save(buffer, "PNG", compress_level=1)
    return buffer.getvalue()


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
    scale, centre, _ = layer.scale(palette, limits, picks)
    shades, norm = colours(scale, centre)
    figure = Figure((1.3, 3.2), dpi=100)
    FigureCanvasAgg(figure)
    axes = figure.add_axes((0.08, 0.05, 0.22, 0.84))
    extend: Any = scale.extend
    bar = Colorbar(axes, ScalarMappable(norm, shades), extend=extend)
    bar.ax.tick_params(labelsize=8, length=2)
    figure.text(0.08, 0.93, pretty(layer.variable.units), fontsize=8, parse_math=False)
    buffer = io.BytesIO()
    figure.savefig(buffer, format="png", metadata={"Software": "rhodolite"})
    return buffer.getvalue()
