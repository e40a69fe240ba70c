"""The words of CF that several rooms need: attributes that name variables, calendars, storage.

Each list stands here once. Formulas and rules about them are where they are used.
"""

from __future__ import annotations

from collections.abc import Mapping

NAME_LISTS = ("coordinates", "ancillary_variables")
"""Attributes that list names of variables (CF 3.4 and 5)."""

CELL_BOUNDS = ("bounds", "climatology")
"""Attributes that name the variable with the bounds of cells (CF 7.1 and 7.4)."""

REFERENCES = (*NAME_LISTS, *CELL_BOUNDS, "grid_mapping")
"""Attributes that name variables and nothing else."""

NAMED_PAIRS = ("cell_measures", "formula_terms")
"""Attributes of pairs such as ``area: cell_area``, in which a word is followed by a name."""

PLACING = ("coordinates", "grid_mapping", "cell_measures")
"""Attributes that say where values lie, and hold for all that has the same cells."""

ALL_REFERENCES = (*REFERENCES, *NAMED_PAIRS, "cell_methods")
"""Attributes in which variables or dimensions are named, in whatever form."""

LIMITS = ("missing_value", "valid_min", "valid_max", "valid_range")
"""Attributes about which stored numbers are values."""

PACKING = ("scale_factor", "add_offset")

STORAGE_ATTRIBUTES = ("_FillValue", *PACKING, "_Unsigned", *LIMITS)
"""Attributes that describe stored numbers and are not carried over to values."""

STALE_AFTER_CHANGE = ("actual_range", "valid_min", "valid_max", "valid_range")
"""Attributes that new values make untrue."""

COVERED_AREA = "covered_area"
"""Name of the variable with the area with which each cell of a region is weighted."""

CALENDARS = (
    "standard",
    "proleptic_gregorian",
    "julian",
    "noleap",
    "all_leap",
    "360_day",
)
"""Calendars by the first of their names (CF 4.4.1)."""

CALENDAR_ALIASES = {"gregorian": "standard", "365_day": "noleap", "366_day": "all_leap"}

CALENDARS_LIKE_TODAYS = ("standard", "proleptic_gregorian")
"""Calendars that agree since 1582."""

STUDY = "rhodolite_study"
"""The attribute of an output that holds the study by which it can be made again."""
WATER_WORDS = ("precipitation", "rain", "snowfall", "runoff")
"""Words in names of quantities that are amounts or fluxes of water."""

TEXT_ATTRIBUTES = frozenset(
    {
        *ALL_REFERENCES,
        "units",
        "calendar",
        "standard_name",
        "long_name",
        "positive",
        "axis",
        "flag_meanings",
        "units_metadata",
        "compress",
    }
)
"""Attributes that are text, whatever a file holds."""
ABOUT_POSITIONS: Mapping[str, Mapping[str, str]] = {
    "lat": {
        "standard_name": "latitude",
        "long_name": "latitude",
        "units": "degrees_north",
    },
    "lon": {
        "standard_name": "longitude",
        "long_name": "longitude",
        "units": "degrees_east",
    },
}
"""What coordinates of latitude and longitude say of themselves (CF 4.1, 4.2)."""
