"""Between which values quantities lie on Earth, wide enough that nothing real is beyond."""

from __future__ import annotations

import numpy as np

from rhodolite.model.cf.cell_methods import holds_values
from rhodolite.model.units.differences import is_difference
from rhodolite.model.units.udunits import convert, convertible
from rhodolite.model.variable import Variable
from rhodolite.plain_text import write_rounded

_TEMPERATURE = (100.0, 400.0, "K")
_WATER = (260.0, 320.0, "K")
_SHARE = (-0.01, 1.01, "1")
_WIND = (-200.0, 200.0, "m s-1")
_RADIATION = (-300.0, 1600.0, "W m-2")
_RANGES = {
    "air_temperature": _TEMPERATURE,
    "surface_temperature": _TEMPERATURE,
    "dew_point_temperature": _TEMPERATURE,
    "soil_temperature": _TEMPERATURE,
    "air_potential_temperature": (100.0, 5000.0, "K"),
    "sea_surface_temperature": _WATER,
    "sea_water_temperature": _WATER,
    "sea_water_potential_temperature": _WATER,
    "sea_surface_salinity": (-0.1, 60.0, "1e-3"),
    "sea_water_salinity": (-0.1, 60.0, "1e-3"),
    "precipitation_flux": (-1e-5, 0.2, "kg m-2 s-1"),
    "rainfall_flux": (-1e-5, 0.2, "kg m-2 s-1"),
    "snowfall_flux": (-1e-5, 0.2, "kg m-2 s-1"),
    "lwe_precipitation_rate": (-1e-8, 2e-4, "m s-1"),
    "relative_humidity": (-0.1, 2.0, "1"),
    "specific_humidity": (-0.01, 0.1, "1"),
    "air_pressure_at_mean_sea_level": (8e4, 1.15e5, "Pa"),
    "air_pressure_at_sea_level": (8e4, 1.15e5, "Pa"),
    "surface_air_pressure": (2.5e4, 1.15e5, "Pa"),
    "geopotential_height": (-2000.0, 2e5, "m"),
    "wind_speed": (-0.1, 200.0, "m s-1"),
    "wind_speed_of_gust": (-0.1, 200.0, "m s-1"),
    "eastward_wind": _WIND,
    "northward_wind": _WIND,
    "cloud_area_fraction": _SHARE,
    "land_area_fraction": _SHARE,
    "sea_ice_area_fraction": _SHARE,
    "surface_albedo": _SHARE,
    "surface_snow_thickness": (-0.1, 500.0, "m"),
    "sea_ice_thickness": (-0.1, 500.0, "m"),
    "surface_altitude": (-12000.0, 9000.0, "m"),
    "surface_downwelling_shortwave_flux_in_air": _RADIATION,
    "surface_upwelling_shortwave_flux_in_air": _RADIATION,
    "surface_downwelling_longwave_flux_in_air": _RADIATION,
    "surface_upwelling_longwave_flux_in_air": _RADIATION,
    "toa_outgoing_longwave_flux": _RADIATION,
    "toa_incoming_shortwave_flux": _RADIATION,
}
"""By standard name: lowest, highest, units. Of the extremes that were ever measured these are about
twice as far out, so that only damage, wrong units and forgotten marks are beyond."""


def plausible_range(variable: Variable) -> tuple[float, float] | None:
    """Return the lowest and the highest value that a variable may plausibly hold, in its own units.

    Returns
    -------
    tuple of float, optional
        None where nothing is known of its quantity, and for differences and sums.
    """
    range_of_name = _RANGES.get(str(variable.attributes.get("standard_name", "")))
    if (
        range_of_name is None
        or is_difference(variable)
        or not holds_values(variable.attributes)
    ):
        return None
    low, high, units = range_of_name
    own = variable.units or "1"
    if not convertible(units, own):
        return None
    ends = [float(convert(end, units, own)) for end in (low, high)]
    return min(ends), max(ends)


def tell_implausible(variable: Variable, low: float, high: float) -> str:
    """Say in a sentence that a variable holds what its quantity cannot be; nothing where all is
    well.

    Parameters
    ----------
    variable : Variable
    low, high : float
        Its minimum and its maximum, NaN where it has none.
    """
    allowed = plausible_range(variable)
    if allowed is None or np.isnan(low) or np.isnan(high):
        return ""
    if low >= allowed[0] and high <= allowed[1]:
        return ""
    units = variable.units or ""
    return (
        f"values from {write_rounded(low, 5)} to {write_rounded(high, 5)} {units}".rstrip()
        + f", and {variable.quantity} lies between {write_rounded(allowed[0], 4)} and "
        f"{write_rounded(allowed[1], 4)} {units}"
    ).rstrip()
