"""Which quantities lie on both sides of a zero that means something."""

from __future__ import annotations

import re

from rhodolite.model.cf.cell_methods import SIZES, read_cell_methods
from rhodolite.model.cf.departures import holds_departures
from rhodolite.model.variable import Variable

_CHANGES = (
    "trend of ",
    "difference of ",
    "difference in percent of ",
    "mean difference of ",
    "area mean of the difference of ",
)
_SIZES = re.compile(
    r"(root of|mean absolute|standard deviation|variance|range of|error of|amplitude of"
    r"|scale of)\b"
)
"""Words of what is never negative, though it is in units of differences."""


def pivots(variable: Variable) -> bool:
    """Return whether the values of a variable lie on both sides of a meaningful zero."""
    standard_name = str(variable.attributes.get("standard_name", ""))
    last = read_cell_methods(variable.attributes)[-1:]
    is_spread = any(method.method in SIZES for method in last)
    if is_spread or _SIZES.match(variable.quantity):
        return False
    return (
        holds_departures(variable)
        or variable.quantity.startswith(_CHANGES)
        or standard_name.endswith("_anomaly")
        or standard_name.startswith(
            ("eastward_", "northward_", "upward_", "tendency_of_")
        )
        or "difference" in str(variable.attributes.get("units_metadata", ""))
    )
