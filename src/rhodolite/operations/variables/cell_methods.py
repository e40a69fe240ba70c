"""Attributes that stay true when numbers change (CF chapters 3 and 7)."""

from __future__ import annotations

from typing import Any

from rhodolite.model.cf.cell_methods import methods_over_time, read_cell_methods
from rhodolite.model.cf.departures import BASE_PERIOD
from rhodolite.model.cf.vocabulary import STALE_AFTER_CHANGE
from rhodolite.model.time.time_units import units_between
from rhodolite.model.units.udunits import is_temperature
from rhodolite.model.variable import UNITS_OF_ONE, Variable
from rhodolite.operations.parameters.cycle import Cycle
from rhodolite.operations.parameters.named_statistics import ResultUnits
from rhodolite.operations.parameters.statistic import Measure, join_words

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
_STALE = (*STALE_AFTER_CHANGE, "ancillary_variables")


def climatology_attributes(
    variable: Variable,
    cycle: Cycle,
    base: str,
    measure: Measure,
    time: str,
    each: str = "",
) -> dict[str, Any]:
    """Return the attributes of a statistic of each phase of a cycle over a base, given in words.

    `each` is the step, such as month, of amounts of which a phase holds several: the result is that
    of one step.

    Parameters
    ----------
    variable : Variable
    cycle : Cycle
    base : str
        Base period as text.
    measure : Measure
        The statistic.
    time : str
        Name of the time coordinate.
    each : str
        Step of amounts of which a phase holds several.
    """
    within, others = _time_method(variable, time)
    if each:
        others, within = f"{others} {time}: sum (interval: 1 {each})".strip(), "mean"
    over = measure.method
    steps = {"hour": "days", "none": ""}.get(cycle.parts[0], "years")
    if over is None:
        # Appendix E of CF has no word for a percentile, nor for a count of values.
        said = measure.words("").removesuffix(" of ").strip()
        over = f"point over {steps}" if steps else "point"
        now = f"{time}: {within} within {steps} {time}: {over} (comment: {said})"
        now = now if steps else f"{time}: {over} (comment: {said})"
    elif not steps:
        now = f"{time}: {over}"
    elif len(cycle.parts) > 1:
        now = f"{time}: {within} within days {time}: mean over days {time}: {over} over years"
    else:
        now = f"{time}: {within} within {steps} {time}: {over} over {steps}"
    name = "normal of" if measure.kind == "mean" else measure.words("").strip()
    name = name if name.endswith(" of") else f"{name} of"
    changed = variable.edit(
        *_STALE,
        long_name=f"{cycle.word} {name} {variable.quantity}{f' of one {each}' if each else ''}, "
        f"{base}",
        cell_methods=f"{others} {now}".strip(),
    )
    if not measure.keeps_quantity:
        changed = changed.edit("standard_name")
    changed = mark_temperatures(changed, measure)
    _, units = measure.rescaled(variable)
    changed = changed.edit("units") if units is None else changed.edit(units=units)
    return dict(changed.attributes)


def mark_temperatures(variable: Variable, measure: Measure) -> Variable:
    """Return a variable that says truly whether its temperatures are on the scale (CF 3.1.2), given
    the statistic that it is of, and still its units.
    """
    if measure.units_of_result is ResultUnits.DIFFERENCES and is_temperature(
        variable.units or "1"
    ):
        return variable.edit(units_metadata="temperature: difference")
    if measure.kind == "sum" or not measure.keeps_quantity:
        return variable.edit("units_metadata")
    return variable


def anomaly_attributes(
    variable: Variable, cycle: Cycle, base: str, base_words: str, kind: str
) -> dict[str, Any]:
    """Return the attributes of a departure from normal, of kind difference, percent or
    standardised.

    Parameters
    ----------
    variable : Variable
    cycle : Cycle
    base : str
        Base period as text.
    base_words : str
        Base period as it reads in a title.
    kind : str
        Of departure: difference, percent or standardised.
    """
    standard_name = str(variable.attributes.get("standard_name", ""))
    words = {
        "difference": "departure",
        "percent": "departure in percent",
        "standardised": "standardised departure",
    }
    changed = variable.edit(
        *_STALE,
        "standard_name",
        long_name=f"{words[kind]} of {variable.quantity} from the {cycle.word} normal of "
        f"{base_words}",
    )
    if kind == "difference":
        if standard_name in _ANOMALY_NAMES:
            changed = changed.edit(standard_name=_ANOMALY_NAMES[standard_name])
        # CF 1.11, 3.1.2: says that no offset belongs to these units.
        if variable.units and is_temperature(variable.units):
            changed = changed.edit(units_metadata="temperature: difference")
        elif variable.units:
            changed = changed.edit(units=units_between(variable.units))
    else:
        changed = changed.edit(
            "units_metadata", units="%" if kind == "percent" else UNITS_OF_ONE
        )
    return dict(changed.edit(**{BASE_PERIOD: base}).attributes)


def aggregate_attributes(
    variable: Variable, measure: Measure, adjective: str, time: str, step: str
) -> dict[str, Any]:
    """Return the attributes of a statistic over each period, the units of which are still those of
    the values.

    Parameters
    ----------
    variable : Variable
    measure : Measure
        The statistic.
    adjective : str
    time : str
        Name of the time coordinate.
    step : str
        Length of a step as text.
    """
    within, others = _time_method(variable, time)
    changed = variable.edit(*_STALE, "standard_name")
    standard_name = variable.attributes.get("standard_name")
    if standard_name and measure.keeps_quantity:
        changed = changed.edit(standard_name=standard_name)
    before = (
        f"{time}: {within} "
        if within not in ("point", measure.method)
        and methods_over_time(variable.attributes, time)
        else ""
    )
    how = f" (interval: {step})" if step else ""
    now = f"{before}{time}: {measure.method}{how}" if measure.method else before
    methods = f"{others} {now}".strip()
    changed = changed.edit(
        "cell_methods",
        long_name=join_words(adjective, measure.words(variable.quantity)),
    )
    if methods:
        changed = changed.edit(cell_methods=methods)
    changed = mark_temperatures(changed, measure)
    if measure.method is None and not measure.counts:
        changed = changed.edit(comment=f"{measure} of the values in each period")
    return dict(changed.attributes)


def _time_method(variable: Variable, time: str) -> tuple[str, str]:
    """Return how values stand for their steps, `mean` where nothing is said, and the other cell
    methods."""
    methods = methods_over_time(variable.attributes, time)
    within = methods[0] if methods else "mean"
    others = [
        method.without("time", time) if method.names else method
        for method in read_cell_methods(variable.attributes)
    ]
    text = " ".join(str(method) for method in others if method is not None)
    return "mean" if within == "point" else within, text
