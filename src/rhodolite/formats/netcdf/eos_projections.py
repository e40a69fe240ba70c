"""Projections of HDF-EOS grids, as CF has them.

The parameters are those of the General Cartographic Transformation Package (GCTP): thirteen numbers
whose meaning depends on the projection, with angles packed as degrees, minutes and seconds.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from rhodolite.arrays import InMemory
from rhodolite.model.variable import Variable

NAME = "crs"
_LARGEST_DEGREES = 360.0
"""Beyond which an angle is packed: DDDMMMSSS.SS."""
_SPHERE = 19
_FIGURES = {
    0: (6378206.4, 6356583.8),
    8: (6378137.0, 6356752.314140),
    12: (6378137.0, 6356752.314245),
    _SPHERE: (6370997.0, 6370997.0),
}
"""Semi-axes by the codes of GCTP that grids of the Earth use: Clarke 1866, GRS 1980, WGS 84 and a
sphere."""
_MERIDIAN, _ORIGIN = "longitude_of_central_meridian", "latitude_of_projection_origin"
_LONGITUDE, _PARALLEL = "longitude_of_projection_origin", "standard_parallel"
_POLE_UP = "straight_vertical_longitude_from_pole"
_KINDS = {
    "PS": ("polar_stereographic", (_POLE_UP, _PARALLEL)),
    "LAMAZ": ("lambert_azimuthal_equal_area", (_LONGITUDE, _ORIGIN)),
    "LAMCC": ("lambert_conformal_conic", (_MERIDIAN, _ORIGIN)),
    "ALBERS": ("albers_conical_equal_area", (_MERIDIAN, _ORIGIN)),
    "TM": ("transverse_mercator", (_MERIDIAN, _ORIGIN)),
    "MERCAT": ("mercator", (_LONGITUDE, _PARALLEL)),
    "SNSOID": ("sinusoidal", (_LONGITUDE,)),
    "CEA": ("lambert_cylindrical_equal_area", (_MERIDIAN, _PARALLEL)),
    "BCEA": ("lambert_cylindrical_equal_area", (_MERIDIAN, _PARALLEL)),
    "UTM": ("transverse_mercator", ()),
}
"""The grid mapping of CF for a code, and its attributes for the fifth and the sixth number."""
_ON_SPHERES = ("LAMAZ", "SNSOID")
"""Whose first number is the radius of a sphere, and the second nothing."""
_CONIC = ("LAMCC", "ALBERS")


def grid_mapping_of(about: Mapping[str, str]) -> Variable | None:
    """Return the grid mapping of a grid; None where its projection is none of those known, or its
    numbers are not there.

    Parameters
    ----------
    about : mapping of str to str
        What the text of the file says: `Projection`, `ProjParams`, `SphereCode`, `ZoneCode`.
    """
    code = about.get("Projection", "").rpartition("GCTP_")[2]
    needed = "ZoneCode" if code == "UTM" else "ProjParams"
    if code not in _KINDS or needed not in about:
        return None
    numbers = [
        float(part)
        for part in about.get("ProjParams", "").strip("()").split(",")
        if part
    ]
    numbers += [0.0] * (13 - len(numbers))
    name, angles = _KINDS[code]
    attributes: dict[str, object] = {"grid_mapping_name": name}
    attributes |= _figure(code, numbers, int(about.get("SphereCode", -1)))
    attributes |= dict(zip(angles, map(degrees_of, numbers[4:6]), strict=False))
    if code == "UTM":
        attributes |= _zone(int(about["ZoneCode"]))
    else:
        attributes |= {"false_easting": numbers[6], "false_northing": numbers[7]}
    if code == "PS":
        # The parallel of true scale lies around the pole that is in the middle.
        attributes["latitude_of_projection_origin"] = 90.0 if numbers[5] >= 0 else -90.0
    if code == "TM":
        attributes["scale_factor_at_central_meridian"] = numbers[2]
    if code in _CONIC:
        attributes["standard_parallel"] = [degrees_of(n) for n in numbers[2:4]]
    return Variable(NAME, (), InMemory(np.int32(0)), attributes)


def degrees_of(packed: float) -> float:
    """Return an angle that is given in degrees, or packed as DDDMMMSSS.SS.

    Examples
    --------
    >>> degrees_of(-45030000.0), degrees_of(12.5)
    (-45.5, 12.5)
    """
    if abs(packed) <= _LARGEST_DEGREES:
        return packed
    sign, rest = (-1 if packed < 0 else 1), abs(packed)
    degrees, rest = divmod(rest, 1_000_000)
    minutes, seconds = divmod(rest, 1000)
    return sign * (degrees + minutes / 60 + seconds / 3600)


def _figure(code: str, numbers: list[float], sphere: int) -> dict[str, float]:
    """Return the figure of the Earth: as the parameters have it, or by its code."""
    major, minor = numbers[:2]
    if code in _ON_SPHERES:
        return {"earth_radius": major or _FIGURES[_SPHERE][0]}
    if code == "UTM" or not major:
        major, minor = _FIGURES.get(sphere, _FIGURES[_SPHERE])
    if 0 < minor < 1:
        # Then it is the square of the eccentricity.
        minor = major * float(np.sqrt(1 - minor))
    return {"semi_major_axis": major, "semi_minor_axis": minor or major}


def _zone(number: int) -> dict[str, float]:
    """Return what a zone of UTM is; those south of the equator are negative."""
    return {
        "longitude_of_central_meridian": 6.0 * abs(number) - 183.0,
        "latitude_of_projection_origin": 0.0,
        "scale_factor_at_central_meridian": 0.9996,
        "false_easting": 500_000.0,
        "false_northing": 0.0 if number >= 0 else 10_000_000.0,
    }
