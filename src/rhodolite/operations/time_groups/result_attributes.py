"""What statistics over time are called, and what they mean."""

from __future__ import annotations

from typing import Any

from rhodolite.model.variable import Variable
from rhodolite.operations.parameters.statistic import Measure
from rhodolite.operations.time_groups.totals import TotalRule
from rhodolite.operations.variables.cell_methods import aggregate_attributes


def describe_statistic(
    variable: Variable,
    measure: Measure,
    adjective: str,
    time: str,
    interval: str,
    units: str | None,
    sums: TotalRule | None,
) -> dict[str, Any]:
    """Return the attributes of a statistic of a variable over time.

    Parameters
    ----------
    variable : Variable
    measure : Measure
    adjective : str
        Such as ``monthly``.
    time : str
        Name of the time coordinate.
    interval : str
        Distance between steps; empty where it varies.
    units : str or None
        Of the result.
    sums : TotalRule, optional
        How values add up, where it is a sum: of rates, it is of another quantity.
    """
    about = aggregate_attributes(variable, measure, adjective, time, interval)
    about.pop("units", None)
    if units is not None:
        about["units"] = units
    if sums is not None:
        about.pop("standard_name", None)
        about |= {"standard_name": sums.standard_name} if sums.standard_name else {}
    return about
