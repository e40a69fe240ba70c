"""Attributes that stay true when numbers change (CF chapters 3 and 7)."""

from __future__ import annotations

import re
from typing import Any

from rhodolite.model.units import is_temperature
from rhodolite.model.variable import UNITS_OF_ONE, Variable
from rhodolite.operations.normals import Base

_ANOMALY_NAMES = {
    name: f"{name}_anomaly"
    for name in (
        "air_temperature",
        "surface_temperature",
        "air_pressure",
        "geopotential_height",
        "sea_water_temperature",
    )
}
"""Standard names that have one for the departure from the climatology, in the CF table."""
_STALE = ("actual_range", "valid_min", "valid_max", "valid_range", "ancillary_variables")
_TIME_METHOD = re.compile(r"\btime:\s*(\w+)(?:\s*\([^)]*\))?")


def climatology_attributes(variable: Variable, base: Base, time: str) -> dict[str, Any]:
    """Return the attributes of a climatological mean."""
    methods = str(variable.attributes.get("cell_methods", ""))
    within = found.group(1) if (found := _TIME_METHOD.search(methods)) else "mean"
    within = "mean" if within == "point" else within
    others = _TIME_METHOD.sub("", methods).strip()
    now = f"{time}: {within} within years {time}: mean over years"
    changed = variable.without(
        *_STALE,
        long_name=f"{base.cycle.word} normal of {variable.quantity}, {base.words}",
        cell_methods=f"{others} {now}".strip(),
    )
    return dict(changed.attributes)


def anomaly_attributes(variable: Variable, base: Base, kind: str) -> dict[str, Any]:
    """Return the attributes of a departure from normal, of kind difference, percent or standardised."""
    standard_name = str(variable.attributes.get("standard_name", ""))
    words = {
        "difference": "departure",
        "percent": "departure in percent",
        "standardised": "standardised departure",
    }
    changed = variable.without(
        *_STALE,
        "standard_name",
        long_name=f"{words[kind]} of {variable.quantity} from the {base.cycle.word} normal of {base.words}",
    )
    if kind == "difference":
        if standard_name in _ANOMALY_NAMES:
            changed = changed.without(standard_name=_ANOMALY_NAMES[standard_name])
        # CF 1.11, 3.1.2: says that no offset belongs to these units.
        if variable.units and is_temperature(variable.units):
            changed = changed.without(units_metadata="temperature: difference")
    else:
        changed = changed.without("units_metadata", units="%" if kind == "percent" else UNITS_OF_ONE)
    return dict(changed.without(base_period=base.text).attributes)
