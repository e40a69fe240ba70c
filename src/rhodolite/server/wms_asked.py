"""Requests of a map service, read: systems, formats, styles, times and pixels."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np

from rhodolite.server.layers import Layer, Picks
from rhodolite.server.limits import Refused
from rhodolite.server.map_systems import Window

PALETTES = (
    "viridis",
    "plasma",
    "cividis",
    "YlGnBu",
    "RdBu_r",
    "BrBG",
    "PuOr_r",
    "gray",
)
FORMATS = ("image/png", "image/webp", "image/jpeg", "image/gif")
WIDEST = 4096


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


def ground_of(asked: Mapping[str, str]) -> tuple[int, int, int] | None:
    """Return the colour where there is nothing; None where it is clear."""
    clear = asked.get("transparent", "FALSE").upper() == "TRUE"
    return None if clear else _background(asked)


def times_named(layer: Layer, text: str) -> list[str]:
    """Return the times of a layer that an interval names, or the times of a list."""
    if "," in text:
        return text.split(",")
    try:
        # A third part, the period, says what capabilities say already.
        ends = text.split("/")[:2]
        return [layer.moments[at] for at in layer.steps("/".join(ends))]
    except Refused as refused:
        raise WmsError("InvalidDimensionValue", str(refused), refused.status) from None


def format_of(asked: Mapping[str, str]) -> str:
    media = asked.get("format", "").split(";")[0].lower() or FORMATS[0]
    if media not in FORMATS:
        raise WmsError("InvalidFormat", f"maps are {', '.join(FORMATS)}")
    return media


def picks_of(layer: Layer, asked: Mapping[str, str]) -> Picks:
    """Return where time and elevation lie."""
    if any(mark in (asked.get("time") or "") for mark in "/,"):
        raise WmsError(
            "InvalidDimensionValue",
            "several times make a film, with FORMAT=image/gif; other formats show one",
        )
    try:
        return layer.picks(asked.get("time"), asked.get("elevation"))
    except Refused as refused:
        raise WmsError("InvalidDimensionValue", str(refused), refused.status) from None


def place_of_pixel(
    asked: Mapping[str, str], names: Sequence[str], window: Window
) -> tuple[float, float]:
    """Return longitude and latitude of a pixel; where tiles meet, clients ask for one beside."""
    try:
        column, row = (int(asked[name]) for name in names)
    except (KeyError, ValueError):
        column = row = -2
    if not (-1 <= column <= window.width and -1 <= row <= window.height):
        raise WmsError(
            "InvalidPoint", f"{' and '.join(names).upper()} are a pixel of the map"
        )
    latitude, longitude = window.places(np.array([row]), np.array([column]))
    return float(longitude[0, 0]), float(latitude[0, 0])


def version_of(parameters: Mapping[str, str]) -> str:
    """Return the version that a request is of.

    Parameters
    ----------
    parameters : mapping of str to str
        Of the request, by names of any case.
    """
    return version_given({key.lower(): value for key, value in parameters.items()})


def version_given(asked: Mapping[str, str]) -> str:
    given = asked.get("version") or asked.get("wmtver") or "1.3.0"
    return "1.3.0" if given >= "1.3" else "1.1.1"


def size_of(asked: Mapping[str, str], key: str) -> int:
    text = asked.get(key, "")
    if not text.isdecimal() or not 1 <= int(text[:9]) <= WIDEST:
        raise WmsError(
            "InvalidParameterValue",
            f"{key.upper()} is a number of pixels from 1 to {WIDEST}",
        )
    return int(text)


def style_of(
    asked: Mapping[str, str],
) -> tuple[str, str | None, tuple[float | None, float | None]]:
    """Return how cells are drawn, the palette, and the limits of the colours."""
    given = asked.get("styles", "") or "cells"
    way, _, palette = given.partition("/")
    if way not in ("cells", "smooth", "default") or (
        palette and palette not in PALETTES
    ):
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
            raise WmsError(
                "InvalidParameterValue", "LIMITS is two numbers, the lower one first"
            )
        limits = low, high
    return way, palette or None, limits


def _background(asked: Mapping[str, str]) -> tuple[int, int, int]:
    text = asked.get("bgcolor", "0xFFFFFF").lower().removeprefix("0x")
    try:
        number = int(text, 16)
    except ValueError:
        number = -1
    if len(text) != 6 or number < 0:
        raise WmsError("InvalidParameterValue", "BGCOLOR is such as 0xFFFFFF")
    return number >> 16, number >> 8 & 255, number & 255
