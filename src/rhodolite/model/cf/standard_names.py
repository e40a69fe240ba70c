"""CF standard names of quantities met most often, with their canonical units and usual short names.

A small part of the CF standard name table, enough to suggest a name and to catch units that
cannot belong to one. Names that are not here are taken as they are.
"""

from __future__ import annotations

import re

_TABLE = """
air_temperature K tas ta t2m temperature temp
surface_temperature K ts skt
sea_surface_temperature K sst tos
sea_water_temperature K thetao
sea_water_salinity 1e-3 so salinity
air_pressure Pa plev p
surface_air_pressure Pa ps sp
air_pressure_at_mean_sea_level Pa psl msl slp
precipitation_flux kg m-2 s-1 pr precipitation rain rainfall
precipitation_amount kg m-2 precip
lwe_thickness_of_precipitation_amount m tp
snowfall_flux kg m-2 s-1 prsn
surface_snow_amount kg m-2 snw
surface_snow_thickness m snd sd
eastward_wind m s-1 ua u u10 uas
northward_wind m s-1 va v v10 vas
wind_speed m s-1 sfcwind ws wind
wind_from_direction degree wd
wind_speed_of_gust m s-1 gust
upward_air_velocity m s-1 w
lagrangian_tendency_of_air_pressure Pa s-1 wap omega
relative_humidity 1 hur hurs rh
specific_humidity 1 hus huss q
dew_point_temperature K d2m tdps
cloud_area_fraction 1 clt tcc
geopotential_height m zg gh
geopotential m2 s-2 z
surface_altitude m orog topo elevation
land_area_fraction 1 sftlf
land_binary_mask 1 mask lsm landmask
sea_ice_area_fraction 1 siconc
sea_ice_thickness m sithick
sea_surface_height_above_geoid m zos ssh
ocean_mixed_layer_thickness m mld
surface_downwelling_shortwave_flux_in_air W m-2 rsds
surface_upwelling_shortwave_flux_in_air W m-2 rsus
surface_downwelling_longwave_flux_in_air W m-2 rlds
surface_upward_sensible_heat_flux W m-2 hfss
surface_upward_latent_heat_flux W m-2 hfls
toa_incoming_shortwave_flux W m-2 rsdt
toa_outgoing_longwave_flux W m-2 rlut olr
water_evapotranspiration_flux kg m-2 s-1 evspsbl evap
runoff_flux kg m-2 s-1 mrro
water_volume_transport_in_river_channel m3 s-1 dis discharge
mass_content_of_water_in_soil kg m-2 mrso
volume_fraction_of_condensed_water_in_soil 1 swvl
soil_temperature K tsl
leaf_area_index 1 lai
cell_area m2 areacella area
region 1 region
"""


def _read(table: str) -> tuple[dict[str, str], dict[str, str]]:
    units: dict[str, str] = {}
    short: dict[str, str] = {}
    for line in table.split("\n"):
        words = line.split()
        # Units are those words that begin with a capital, a number, or end in an exponent.
        end = (
            next(
                (at for at, word in enumerate(words[1:], 1) if not _is_unit_word(word)),
                len(words),
            )
            if words
            else 0
        )
        if words:
            units[words[0]] = " ".join(words[1:end])
            short |= dict.fromkeys(words[end:], words[0])
    return units, short


def _is_unit_word(word: str) -> bool:
    return bool(re.fullmatch(r"K|Pa|W|1|1e-3|kg|m|degree|m[23]|s|[a-z]+-\d", word))


CANONICAL_UNITS, SHORT_NAMES = _read(_TABLE)
_MODIFIERS = (
    "detection_minimum",
    "number_of_observations",
    "standard_error",
    "status_flag",
)
_SYNTAX = re.compile(r"[a-z][a-z0-9_]*")


def well_formed(text: str) -> bool:
    """Return whether a text can be a standard name, with or without a modifier (CF 3.3)."""
    words = text.split()
    plain = len(words) == 1 or (len(words) == 2 and words[1] in _MODIFIERS)
    return plain and _SYNTAX.fullmatch(words[0]) is not None


def suggest_standard_name(name: str, quantity: str) -> str | None:
    """Return the standard name that a variable's name or long name suggests.

    Parameters
    ----------
    name : str
    quantity : str
        Name of the quantity in words.

    Examples
    --------
    >>> suggest_standard_name("t2m", ""), suggest_standard_name("x1", "Relative humidity")
    ('air_temperature', 'relative_humidity')
    """
    plain = re.sub(r"\W+", "_", quantity.strip().lower())
    return plain if plain in CANONICAL_UNITS else SHORT_NAMES.get(name.lower())
