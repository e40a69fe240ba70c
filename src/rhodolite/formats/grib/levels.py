"""From the levels of fields to coordinates (code table 4.5, and table 3 of edition 1)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from rhodolite.arrays import Array, InMemory
from rhodolite.formats.grib.keys import Keys
from rhodolite.model.variable import Variable


@dataclass(frozen=True)
class LevelKind:
    """How levels of a kind are written.

    Parameters
    ----------
    name : str
        Of the coordinate.
    standard_name, units : str
    positive : str, optional
    from_si, from_edition_1 : float
        Factors from SI units, and from those in which edition 1 counts, to these units.
    """

    name: str
    standard_name: str
    units: str
    positive: str | None = None
    from_si: float = 1.0
    from_edition_1: float = 1.0

    def scale(self, keys: Keys, level: float) -> float:
        """Return a level in these units, without the noise of a power of ten."""
        factor = self.from_si if keys.si_levels else self.from_edition_1
        return level / round(1 / factor) if factor < 1 else level * factor


_HECTOPASCALS = LevelKind("pressure", "air_pressure", "hPa", "down", 0.01, 1.0)
_PASCALS = LevelKind("pressure", "air_pressure", "Pa", "down")
_HEIGHTS = LevelKind("height", "height", "m", "up")
_ALTITUDES = LevelKind("altitude", "altitude", "m", "up")
_DEPTHS = LevelKind("depth", "depth", "m", "down")
_SOIL = LevelKind("soil_depth", "depth", "m", "down", 1.0, 0.01)
_MODEL = LevelKind("model_level", "model_level_number", "1", "down")
_POTENTIAL_TEMPERATURES = LevelKind("theta", "air_potential_temperature", "K", "up")
KINDS = {
    "isobaricInhPa": _HECTOPASCALS,
    "isobaricLayer": _HECTOPASCALS,
    "isobaricInPa": _PASCALS,
    "heightAboveGround": _HEIGHTS,
    "heightAboveGroundLayer": LevelKind(
        "height", "height", "m", "up", 1.0, from_edition_1=100.0
    ),
    "heightAboveSea": _ALTITUDES,
    "heightAboveSeaLayer": LevelKind(
        "altitude", "altitude", "m", "up", 1.0, from_edition_1=100.0
    ),
    "depthBelowSea": _DEPTHS,
    "depthBelowSeaLayer": _DEPTHS,
    "depthBelowLand": _SOIL,
    "depthBelowLandLayer": _SOIL,
    "hybrid": _MODEL,
    "hybridLayer": _MODEL,
    "theta": _POTENTIAL_TEMPERATURES,
    "thetaLayer": _POTENTIAL_TEMPERATURES,
    "sigma": LevelKind(
        "sigma", "atmosphere_sigma_coordinate", "1", "down", 1.0, 0.0001
    ),
}
HYBRID = ("hybrid", "hybridLayer")
Level = tuple[float, float | None]
"""A level, or both ends of a layer."""


def kind_of(keys: Keys) -> LevelKind | None:
    """Return how the level of a field is written; None where it has none that counts, such as the
    ground."""
    return KINDS.get(keys.level_kind)


def level_of(keys: Keys) -> Level:
    """Return the level of a field, in the units of its kind; 0 where it has none."""
    kind = kind_of(keys)
    if kind is None or keys.level is None:
        return float(keys.level or 0.0), None
    end = None if keys.layer_end is None else kind.scale(keys, keys.layer_end)
    return kind.scale(keys, keys.level), end


def make_levels(
    name: str, kind: LevelKind | None, levels: Sequence[Level]
) -> list[Variable]:
    """Return the coordinate of levels, and the bounds of layers.

    Parameters
    ----------
    name : str
    kind : LevelKind, optional
        None of surfaces that are only numbered.
    levels : sequence of (float, float or None)
        One makes a scalar coordinate.
    """
    about: dict[str, Any] = {"long_name": "number of the surface", "axis": "Z"}
    if kind is not None:
        about = {"standard_name": kind.standard_name, "units": kind.units, "axis": "Z"}
        about |= {"positive": kind.positive} if kind.positive else {}
    ends = np.array([(a, a if b is None else b) for a, b in levels])
    middles: Array = ends.mean(axis=1)
    dimensions = () if len(levels) == 1 else (name,)
    if all(end is None for _, end in levels):
        return [Variable(name, dimensions, InMemory(_shaped(middles)), about)]
    bounds = Variable(f"{name}_bnds", (*dimensions, "bnds"), InMemory(_shaped(ends)))
    about["bounds"] = bounds.name
    return [Variable(name, dimensions, InMemory(_shaped(middles)), about), bounds]


def _shaped(values: Array) -> Array:
    return values[0] if len(values) == 1 else values


def make_coefficients(
    dimension: str, levels: Sequence[Level], pairs: Array
) -> list[Variable]:
    """Return the coefficients of model levels: p = ap + b ps (CF appendix D).

    Parameters
    ----------
    dimension : str
        Along which the levels lie.
    levels : sequence of (float, float or None)
        Numbers of levels, from 1 at the top.
    pairs : ndarray, shape (2 n)
        Pressures, Pa, and then shares of the pressure at the surface, both at the n interfaces
        between levels (the `pv` of section 4). A level lies halfway between two interfaces.
    """
    interfaces = pairs.reshape(2, -1)
    at = np.array([int(level) for level, _ in levels])
    middles = (interfaces[:, at - 1] + interfaces[:, at]) / 2
    about = {
        "ap": {"long_name": "pressure of model levels above no surface", "units": "Pa"},
        "b": {"long_name": "share of the surface pressure", "units": "1"},
    }
    dimensions = () if len(levels) == 1 else (dimension,)
    return [
        Variable(name, dimensions, InMemory(_shaped(values)), about[name])
        for name, values in zip(about, middles, strict=True)
    ]
