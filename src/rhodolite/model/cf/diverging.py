"""Which quantities lie on both sides of a zero that means something."""

from __future__ import annotations

from rhodolite.model.variable import Variable


def pivots(variable: Variable) -> bool:
    """Return whether the values of a variable lie on both sides of a meaningful zero."""
    standard_name = str(variable.attributes.get("standard_name", ""))
    return (
        "base_period" in variable.attributes
        or variable.quantity.startswith("trend of ")
        or standard_name.endswith("_anomaly")
        or standard_name.startswith(("eastward_", "northward_", "upward_", "tendency_of_"))
        or "difference" in str(variable.attributes.get("units_metadata", ""))
    )
