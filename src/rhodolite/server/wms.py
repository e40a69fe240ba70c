"""Maps as pictures: OGC Web Map Service 1.3.0 (OGC 06-042), and requests of 1.1.1."""

from __future__ import annotations

import io
import json
import math
import re
from collections.abc import Mapping
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
from rhodolite.model.units.udunits import pretty
from rhodolite.server.layers import Fields, Layer, Picks, layers_of, paint
from rhodolite.server.limits import Refused
from rhodolite.server.page import write_page
from rhodolite.server.served import Served

_RADIUS = 6378137.0
_HALF = math.pi * _RADIUS
PALETTES = ("viridis", "plasma", "cividis", "YlGnBu", "RdBu_r", "BrBG", "PuOr_r", "gray")
_WIDEST = 4096
_NOT_IN_XML = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
_EXTENTS = {"EPSG:4326": "geographic", "CRS:84": "geographic", "EPSG:3857": "mercator"}


class WmsError(Refused):
    """A request that the protocol has a code for.

    Parameters
    ----------
    code : str
    message : str
    status : int
        Of HTTP.
    """

    def __init__(self, code: str, message: str, status: int = 400) -> None:
        self.code = code
        super().__init__(status, message)


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

    def longitudes(self) -> Array:
        """Return the longitude of each column of pixels."""
        step = (self.east - self.west) / self.width
        x = self.west + step * (np.arange(self.width) + 0.5)
        return x if _EXTENTS[self.crs] == "geographic" else np.degrees(x / _RADIUS)

    def latitudes(self) -> Array:
        """Return the latitude of each row of pixels, from above."""
        step = (self.north - self.south) / self.height
        y = self.north - step * (np.arange(self.height) + 0.5)
        if _EXTENTS[self.crs] == "geographic":
            return y
        return np.asarray(np.degrees(np.arctan(np.sinh(y / _RADIUS))))


class Maps:
    """The maps of one dataset.

    Parameters
    ----------
    served : Served
    fields : Fields
        Shared by all datasets of a server.
    """

    def __init__(self, served: Served, fields: Fields) -> None:
        self.served = served
        self.layers = layers_of(served)
        self._fields = fields

    def answer(self, parameters: Mapping[str, str], address: str) -> tuple[bytes, str]:
        """Return what a request asks for, and its media type.

        Parameters
        ----------
        parameters : mapping of str to str
            Of the request, by names of any case.
        address : str
            Of the service.

        Raises
        ------
        WmsError
            If it cannot be answered.
        """
        asked = {key.lower(): value for key, value in parameters.items()}
        service = asked.get("service", "WMS").upper()
        if service != "WMS":
            raise WmsError("InvalidParameterValue", f"the service here is WMS, and not {service}")
        request = asked.get("request", "GetCapabilities").lower()
        if request == "getcapabilities":
            return self._capabilities(_version(asked), address)
        if request == "getmap":
            return self._map(asked), "image/png"
        if request == "getfeatureinfo":
            return self._feature(asked)
        if request == "getlegendgraphic":
            return self._legend(asked), "image/png"
        raise WmsError(
            "OperationNotSupported",
            f"there is no request '{request}'; there are GetCapabilities, GetMap, GetFeatureInfo "
            "and GetLegendGraphic",
        )

    def _layer(self, asked: Mapping[str, str], key: str) -> Layer:
        name = asked.get(key, "")
        if "," in name:
            raise WmsError("LayerNotDefined", "one layer makes a map here; ask for each alone")
        if name not in self.layers:
            there = ", ".join(self.layers) or "none"
            raise WmsError("LayerNotDefined", f"there is no layer '{name}'; there are {there}", 404)
        return self.layers[name]

    def _map(self, asked: Mapping[str, str]) -> bytes:
        if asked.get("format", "image/png").split(";")[0] != "image/png":
            raise WmsError("InvalidFormat", "maps are image/png")
        layer, window = self._layer(asked, "layers"), self._window(asked)
        style, palette, limits = _style(asked)
        picks = layer.picks(asked.get("time"), asked.get("elevation"))
        values = _pixels(layer, self._fields.get(layer, picks), window, smooth=style == "smooth")
        found = layer.scale(palette, limits, picks)
        return _png(paint(values, found.scale), found.shades, asked)

    def _window(self, asked: Mapping[str, str]) -> Window:
        newer = _version(asked) == "1.3.0"
        crs = asked.get("crs" if newer else "srs", "").upper()
        if crs not in _EXTENTS:
            code = "InvalidCRS" if newer else "InvalidSRS"
            raise WmsError(code, f"'{crs}' is not offered; there are {', '.join(_EXTENTS)}")
        width, height = (_size(asked, key) for key in ("width", "height"))
        if width * height > self.served.gate.limits.pixels:
            raise WmsError(
                "InvalidParameterValue", f"{width} x {height} pixels are too many; ask for fewer"
            )
        try:
            ends = [float(part) for part in asked.get("bbox", "").split(",")]
        except ValueError:
            ends = []
        if len(ends) != 4 or not all(map(math.isfinite, ends)):
            raise WmsError("InvalidParameterValue", "BBOX is four numbers with commas")
        if newer and crs == "EPSG:4326":
            # Latitude comes first, as the authority has it.
            ends = [ends[1], ends[0], ends[3], ends[2]]
        west, south, east, north = ends
        most = 4 * (180.0 if _EXTENTS[crs] == "geographic" else _HALF)
        if not (west < east and south < north) or max(map(abs, ends)) > most:
            raise WmsError("InvalidParameterValue", "BBOX has no area, or lies beyond the world")
        return Window(crs, west, south, east, north, width, height)

    def _feature(self, asked: Mapping[str, str]) -> tuple[bytes, str]:
        layer, window = self._layer(asked, "query_layers"), self._window(asked)
        names = ("i", "j") if _version(asked) == "1.3.0" else ("x", "y")
        try:
            column, row = (int(asked[name]) for name in names)
            longitude = float(window.longitudes()[column])
            latitude = float(window.latitudes()[row])
        except (KeyError, ValueError, IndexError):
            raise WmsError(
                "InvalidPoint", f"{' and '.join(names).upper()} are a pixel of the map"
            ) from None
        picks = layer.picks(asked.get("time"), asked.get("elevation"))
        found = _value_at(layer, self._fields.get(layer, picks), latitude, longitude)
        at = dict(picks)
        if layer.time is not None:
            found["time"] = layer.moments[at[layer.time_dimension]]
        kind = asked.get("info_format", "text/plain")
        if kind == "application/json":
            return json.dumps(found, allow_nan=False).encode(), kind
        if kind != "text/plain":
            raise WmsError("InvalidFormat", "INFO_FORMAT is text/plain or application/json")
        return "".join(f"{key}: {value}\n" for key, value in found.items()).encode(), kind

    def _legend(self, asked: Mapping[str, str]) -> bytes:
        layer = self._layer(asked, "layer")
        _, palette, limits = _style({"styles": asked.get("style", ""), **asked})
        picks = layer.picks(None, asked.get("elevation"))
        return draw_legend(layer, palette, limits, picks)

    def _capabilities(self, version: str, address: str) -> tuple[bytes, str]:
        layers = [_described(layer) for layer in self.layers.values()]
        text = write_page(
            "wms_capabilities.xml",
            version=version,
            title=_allowed(self.served.title),
            address=address,
            layers=layers,
            palettes=PALETTES,
            widest=_WIDEST,
        )
        old = "application/vnd.ogc.wms_xml"
        return text.encode(), "text/xml" if version == "1.3.0" else old


def version_of(parameters: Mapping[str, str]) -> str:
    """Return the version that a request is of.

    Parameters
    ----------
    parameters : mapping of str to str
        Of the request, by names of any case.
    """
    return _version({key.lower(): value for key, value in parameters.items()})


def _version(asked: Mapping[str, str]) -> str:
    given = asked.get("version") or asked.get("wmtver") or "1.3.0"
    return "1.3.0" if given >= "1.3" else "1.1.1"


def _size(asked: Mapping[str, str], key: str) -> int:
    text = asked.get(key, "")
    if not text.isdecimal() or not 1 <= int(text[:9]) <= _WIDEST:
        raise WmsError(
            "InvalidParameterValue", f"{key.upper()} is a number of pixels from 1 to {_WIDEST}"
        )
    return int(text)


def _style(
    asked: Mapping[str, str],
) -> tuple[str, str | None, tuple[float | None, float | None]]:
    """Return how cells are drawn, the palette, and the limits of the colours."""
    given = asked.get("styles", "") or "cells"
    way, _, palette = given.partition("/")
    if way not in ("cells", "smooth", "default") or (palette and palette not in PALETTES):
        raise WmsError(
            "StyleNotDefined",
            f"there is no style '{given[:60]}'; there are cells and smooth, each alone or with a "
            f"palette, such as cells/{PALETTES[0]}",
        )
    limits: tuple[float | None, float | None] = (None, None)
    if text := asked.get("limits"):
        try:
            low, high = (float(part) for part in text.split(","))
        except ValueError:
            low = high = math.nan
        if not low < high or not math.isfinite(low + high):
            raise WmsError("InvalidParameterValue", "LIMITS is two numbers, the lower one first")
        limits = low, high
    return way, palette or None, limits


def _pixels(layer: Layer, field: Array, window: Window, *, smooth: bool) -> Array:
    """Return the value at each pixel, NaN where there is none."""
    latitudes, longitudes = window.latitudes(), window.longitudes()
    grid = layer.grid
    # A map that goes round the world more than once repeats itself; beyond the poles is nothing.
    if not grid.regular:
        across, down = np.meshgrid(longitudes, latitudes)
        found = grid.nearest(np.clip(down, -90, 90), across)
        values = np.where(found >= 0, field.ravel()[found], np.nan)
        return values.reshape(down.shape)
    rows, columns = grid.rows(latitudes), grid.columns(longitudes)
    inside = (rows >= 0)[:, None] & (columns >= 0)[None, :]
    if not smooth:
        return np.where(inside, field[np.ix_(rows, columns)], np.nan)
    return np.where(inside, _between(layer, field, latitudes, longitudes, rows, columns), np.nan)


def _between(
    layer: Layer, field: Array, latitudes: Array, longitudes: Array, rows: Array, columns: Array
) -> Array:
    """Return values interpolated between the centres of cells; those of the cell itself where a
    neighbour is missing."""
    dataset = layer.served.dataset
    centres = [dataset.need(role).values for role in (Role.LATITUDE, Role.LONGITUDE)]
    round_the_world = (
        len(centres[1]) > 2
        and abs(abs(centres[1][-1] - centres[1][0]) + abs(centres[1][1] - centres[1][0]) - 360)
        < 1e-3 * 360
    )
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


def _png(numbers: Array, shades: Array, asked: Mapping[str, str]) -> bytes:
    clear = asked.get("transparent", "FALSE").upper() == "TRUE"
    if not clear:
        shades = shades.copy()
        shades[0] = (*_background(asked), 255)
    image = Image.fromarray(numbers, mode="P")
    image.putpalette(shades[:, :3].tobytes(), "RGB")
    made = io.BytesIO()
    image.save(made, "PNG", compress_level=1, **({"transparency": 0} if clear else {}))
    return made.getvalue()


def _background(asked: Mapping[str, str]) -> tuple[int, int, int]:
    text = asked.get("bgcolor", "0xFFFFFF").lower().removeprefix("0x")
    try:
        number = int(text, 16)
    except ValueError:
        number = -1
    if len(text) != 6 or number < 0:
        raise WmsError("InvalidParameterValue", "BGCOLOR is such as 0xFFFFFF")
    return number >> 16, number >> 8 & 255, number & 255


def _value_at(layer: Layer, field: Array, latitude: float, longitude: float) -> dict[str, Any]:
    cell = layer.grid.cell_at(latitude, longitude)
    found: dict[str, Any] = {
        "layer": layer.variable.name,
        "quantity": layer.variable.quantity,
        "units": pretty(layer.variable.units) or "1",
        "value": None,
    }
    if cell is not None:
        north, east = layer.grid.centre(*cell)
        value = float(field[cell])
        found |= {"latitude": north, "longitude": east}
        found["value"] = value if math.isfinite(value) else None
    return found


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
    made = io.BytesIO()
    figure.savefig(made, format="png", metadata={"Software": "rhodolite"})
    return made.getvalue()


def _described(layer: Layer) -> dict[str, Any]:
    west, south, east, north = layer.grid.extent
    if east - west > 360 or east > 180:
        west, east = (-180.0, 180.0) if east - west >= 359 else (west, east)
    low, high = max(south, -85.0), min(north, 85.0)
    metres = [
        math.radians(west) * _RADIUS,
        _mercator(low),
        math.radians(east) * _RADIUS,
        _mercator(high),
    ]
    levels = layer.levels
    coordinate = None
    if levels is not None:
        coordinate = layer.served.dataset.need(Role.LEVEL).variable
    return {
        "name": layer.variable.name,
        "title": _allowed(layer.variable.quantity),
        "extent": (west, south, east, north),
        "metres": metres,
        "times": layer.moments,
        "levels": [] if levels is None else [f"{value:g}" for value in levels],
        "level_units": "" if coordinate is None else _allowed(coordinate.units or ""),
    }


def _mercator(latitude: float) -> float:
    return _RADIUS * math.asinh(math.tan(math.radians(latitude)))


def _allowed(text: str) -> str:
    """Return a text without the characters that XML 1.0 has no place for."""
    return _NOT_IN_XML.sub("\N{REPLACEMENT CHARACTER}", text)


def write_error(error: Refused, version: str) -> str:
    """Return a service exception.

    Parameters
    ----------
    error : Refused
    version : str
        That was asked for.
    """
    from xml.sax.saxutils import escape, quoteattr

    code = quoteattr(getattr(error, "code", "NoApplicableCode"))
    told = escape(_allowed(str(error)))
    space = ' xmlns="http://www.opengis.net/ogc"' if version == "1.3.0" else ""
    return (
        '<?xml version="1.0" encoding="UTF-8"?>\n'
        f'<ServiceExceptionReport version="{version}"{space}>\n'
        f"  <ServiceException code={code}>{told}</ServiceException>\n"
        "</ServiceExceptionReport>\n"
    )
