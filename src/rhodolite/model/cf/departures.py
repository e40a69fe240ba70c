"""Which variables hold departures from what is usual.

`base_period` is written with departures, and `reference_period` with what is only compared with
those years: percentages of days beyond percentiles of them, ranks among them, or values adjusted to
them.
"""

from __future__ import annotations

from rhodolite.model.variable import Variable

BASE_PERIOD, REFERENCE_PERIOD = "base_period", "reference_period"


def holds_departures(variable: Variable) -> bool:
    """Return whether values are departures from those of a base period.

    A standard name that is not of anomalies says that they are not: files of normals name the years
    that they are of, too.
    """
    name = str(variable.attributes.get("standard_name", ""))
    return BASE_PERIOD in variable.attributes and (
        not name or name.endswith("_anomaly")
    )
