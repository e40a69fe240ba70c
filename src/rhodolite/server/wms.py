"""Maps as pictures: OGC Web Map Service 1.3.0 (OGC 06-042), and requests of 1.1.1."""

from __future__ import annotations

import contextlib
import json
import math
from collections.abc import Mapping, Sequence
from typing import Any

from rhodolite.arrays import Array
from rhodolite.errors import DataError
from rhodolite.model.axes import Role
from rhodolite.model.cf.classes import words_of_classes
from rhodolite.model.units.udunits import pretty
from rhodolite.plain_text import allowed_in_xml, number_or_none
from rhodolite.server.layer_colours import paint
from rhodolite.server.layers import Fields, Layer, layers_of
from rhodolite.server.limits import Refused
from rhodolite.server.map_systems import (
    Window,
    furthest,
    has_latitude_first,
    offered_systems,
    system_named,
)
from rhodolite.server.page import write_page
from rhodolite.server.rendering import (
    draw_legend,
    pixels_of,
    write_film,
    write_picture,
    write_png,
)
from rhodolite.server.served import Served
from rhodolite.server.wms_asked import (
    FORMATS,
    PALETTES,
    WIDEST,
    WmsError,
    format_of,
    ground_of,
    picks_of,
    place_of_pixel,
    size_of,
    style_of,
    times_named,
    version_given,
)
from rhodolite.server.wms_contents import (
    describe_layer,
    describe_service,
)

_FILM = "image/gif"
_MOST_FRAMES = 200
MOST_LAYERS = 10


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

    def answer(
        self, parameters: Mapping[str, str], address: str
    ) -> tuple[bytes, str, dict[str, str]]:
        """Return what a request asks for, its media type, and headers that tell more of it.

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
            raise WmsError(
                "InvalidParameterValue", f"the service here is WMS, and not {service}"
            )
        request = asked.get("request", "GetCapabilities").lower()
        if request == "getcapabilities":
            return *self._capabilities(version_given(asked), address), {}
        if request == "getmap":
            layers, media = self._layers(asked), format_of(asked)
            if media == _FILM:
                return self._film(asked, layers), media, {}
            return self._map(asked, layers), media, _warnings(layers, asked)
        if request == "getfeatureinfo":
            layer = self._as_asked(asked.get("query_layers", ""), asked)
            return *self._feature(asked, layer), _warnings([layer], asked)
        if request == "getlegendgraphic":
            return self._legend(asked), "image/png", {}
        raise WmsError(
            "OperationNotSupported",
            f"there is no request '{request}'; there are GetCapabilities, GetMap, GetFeatureInfo "
            "and GetLegendGraphic",
        )

    def _layer(self, name: str) -> Layer:
        if name not in self.layers:
            there = ", ".join(self.layers) or "none"
            raise WmsError(
                "LayerNotDefined", f"there is no layer '{name}'; there are {there}", 404
            )
        return self.layers[name]

    def _as_asked(self, name: str, asked: Mapping[str, str]) -> Layer:
        """Return a layer, of the member and in the units that are asked for."""
        layer = self._layer(name)
        member, units = asked.get("dim_member", ""), asked.get("units", "")
        try:
            layer = layer.of_member(member) if member else layer
        except DataError as error:
            raise WmsError("InvalidDimensionValue", str(error), 404) from None
        try:
            return layer.in_units(units) if units else layer
        except DataError as error:
            raise WmsError("InvalidParameterValue", str(error)) from None

    def _layers(self, asked: Mapping[str, str]) -> list[Layer]:
        """Return the layers of a map, the lowest first."""
        names = asked.get("layers", "").split(",")
        if len(names) > MOST_LAYERS:
            raise WmsError("LayerNotDefined", f"a map has at most {MOST_LAYERS} layers")
        return [self._as_asked(name, asked) for name in names]

    def _map(self, asked: Mapping[str, str], layers: list[Layer]) -> bytes:
        media, background = format_of(asked), ground_of(asked)
        painted = self._painted(asked, layers)
        if len(painted) == 1 and media == "image/png":
            return write_png(*painted[0], background)
        return write_picture(painted, media, background)

    def _film(self, asked: Mapping[str, str], layers: list[Layer]) -> bytes:
        """Return a picture that moves, of the times of an interval or a list."""
        text = asked.get("time", "")
        times = [text] if text else [""]
        if layers[0].time is not None and ("/" in text or "," in text):
            times = times_named(layers[0], text)
        if len(times) > _MOST_FRAMES:
            raise WmsError(
                "InvalidDimensionValue",
                f"{len(times)} times are more than the {_MOST_FRAMES} that a film has",
            )
        frames = [self._painted({**asked, "time": time}, layers) for time in times]
        return write_film(frames, ground_of(asked))

    def _painted(
        self, asked: Mapping[str, str], layers: list[Layer]
    ) -> list[tuple[Array, Array]]:
        """Return the numbers of colours, and the colours, of each layer of a map."""
        window = self._window(asked)
        styles = (asked.get("styles", "") or "").split(",")
        if len(styles) not in (1, len(layers)):
            raise WmsError(
                "StyleNotDefined", "STYLES has one style for each of LAYERS, or none"
            )
        painted = []
        for layer, given in zip(
            layers, styles * (len(layers) // len(styles)), strict=True
        ):
            style, palette, limits = style_of({**asked, "styles": given})
            picks = picks_of(layer, asked)
            field = self._fields.get(layer, picks)
            values = pixels_of(layer, field, window, smooth=style == "smooth")
            layer_scale = layer.scale(palette, limits, picks)
            painted.append((paint(values, layer_scale.scale), layer_scale.shades))
        return painted

    def _window(self, asked: Mapping[str, str]) -> Window:
        newer = version_given(asked) == "1.3.0"
        given = asked.get("crs" if newer else "srs", "")
        crs = system_named(given)
        if crs is None:
            code = "InvalidCRS" if newer else "InvalidSRS"
            raise WmsError(
                code,
                f"'{given}' is not offered; there are EPSG:4326, CRS:84, EPSG:3857, and where "
                "pyproj is installed those of UTM and of the poles",
            )
        width, height = (size_of(asked, key) for key in ("width", "height"))
        if width * height > self.served.gate.limits.pixels:
            raise WmsError(
                "InvalidParameterValue",
                f"{width} x {height} pixels are too many; ask for fewer",
            )
        ends = _box_of(asked)
        if newer and has_latitude_first(crs):
            ends = [ends[1], ends[0], ends[3], ends[2]]
        west, south, east, north = ends
        if not (west < east and south < north) or max(map(abs, ends)) > furthest(crs):
            raise WmsError(
                "InvalidParameterValue", "BBOX has no area, or lies beyond the world"
            )
        return Window(crs, west, south, east, north, width, height)

    def _feature(self, asked: Mapping[str, str], layer: Layer) -> tuple[bytes, str]:
        window = self._window(asked)
        names = ("i", "j") if version_given(asked) == "1.3.0" else ("x", "y")
        longitude, latitude = place_of_pixel(asked, names, window)
        picks = picks_of(layer, asked)
        answer = _value_at(layer, self._fields.get(layer, picks), latitude, longitude)
        at = dict(picks)
        if layer.time is not None:
            answer["time"] = layer.moments[at[layer.time_dimension]]
        kind = asked.get("info_format", "text/plain")
        if kind == "application/json":
            return json.dumps(answer, allow_nan=False).encode(), kind
        if kind != "text/plain":
            raise WmsError(
                "InvalidFormat", "INFO_FORMAT is text/plain or application/json"
            )
        return "".join(
            f"{key}: {value}\n" for key, value in answer.items()
        ).encode(), kind

    def _legend(self, asked: Mapping[str, str]) -> bytes:
        layer = self._as_asked(asked.get("layer", ""), asked)
        _, palette, limits = style_of({"styles": asked.get("style", ""), **asked})
        picks = layer.picks(None, asked.get("elevation"))
        return draw_legend(layer, palette, limits, picks)

    def _capabilities(self, version: str, address: str) -> tuple[bytes, str]:
        layers = [describe_layer(layer) for layer in self.layers.values()]
        text = write_page(
            "wms_capabilities.xml",
            version=version,
            title=allowed_in_xml(self.served.title),
            address=address,
            layers=layers,
            palettes=PALETTES,
            widest=WIDEST,
            most_layers=MOST_LAYERS,
            formats=FORMATS,
            systems=offered_systems(),
            **describe_service(self.served),
        )
        old = "application/vnd.ogc.wms_xml"
        return text.encode(), "text/xml" if version == "1.3.0" else old


def _warnings(layers: Sequence[Layer], asked: Mapping[str, str]) -> dict[str, str]:
    """Return the header by which a map says that it is not of the very time or level asked for
    (OGC 06-042, C.4.2)."""
    said: list[str] = []
    for layer in layers:
        at = dict(picks_of(layer, asked))
        if layer.time is not None:
            used = layer.moments[at[layer.time_dimension]]
            said += _differs("time", asked.get("time"), used, "ISO8601")
        if layer.levels is not None:
            about = layer.served.dataset.need(Role.LEVEL)
            used = layer.level_texts[at[str(about.dimension)]]
            units = about.variable.units or "1"
            said += _differs("elevation", asked.get("elevation"), used, units)
        if layer.members and not asked.get("dim_member"):
            said.append(f"Default value used: member={layer.member}")
    texts = [f"99 {text}" for text in dict.fromkeys(said)]
    return {"warning": ", ".join(texts)} if texts else {}


def _differs(name: str, asked: str | None, used: str, units: str) -> list[str]:
    if asked in (None, "", "default", "current"):
        return [f"Default value used: {name}={used} {units}"]
    same = str(asked).removesuffix("Z") == used.removesuffix("Z")
    with contextlib.suppress(ValueError):
        same = same or float(str(asked)) == float(used)
    return [] if same else [f"Nearest value used: {name}={used} {units}"]


def _value_at(
    layer: Layer, field: Array, latitude: float, longitude: float
) -> dict[str, Any]:
    cell = layer.grid.cell_at(latitude, longitude) if abs(latitude) <= 90 else None
    answer: dict[str, Any] = {
        "layer": layer.variable.name,
        "quantity": layer.variable.quantity,
        "units": pretty(layer.variable.units) or "1",
        "value": None,
    }
    if cell is not None:
        north, east = layer.grid.centre(*cell)
        answer |= {"latitude": north, "longitude": east}
        answer["value"] = value = number_or_none(field[cell])
        word = (
            words_of_classes(layer.variable).get(value) if value is not None else None
        )
        answer |= {"class": word} if word is not None else {}
    return answer


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
    message = escape(allowed_in_xml(str(error)))
    space = ' xmlns="http://www.opengis.net/ogc"' if version == "1.3.0" else ""
    return (
        '<?xml version="1.0" encoding="UTF-8"?>\n'
        f'<ServiceExceptionReport version="{version}"{space}>\n'
        f"  <ServiceException code={code}>{message}</ServiceException>\n"
        "</ServiceExceptionReport>\n"
    )


def _box_of(asked: Mapping[str, str]) -> list[float]:
    """Return the four ends of the box that a request names, in its order.

    Raises
    ------
    WmsError
        If they are no numbers.
    """
    try:
        ends = [float(part) for part in asked.get("bbox", "").split(",")]
    except ValueError:
        ends = []
    if len(ends) != 4 or not all(map(math.isfinite, ends)):
        raise WmsError("InvalidParameterValue", "BBOX is four numbers with commas")
    return ends
