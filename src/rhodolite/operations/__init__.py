"""The verbs that make a dataset of a dataset, one module each, and the rooms of what they share.

This package itself holds the verbs alone and their registry; a verb is imported when it is used.
Nothing here opens, writes or prints anything, or runs a pass over data.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING

from rhodolite import extensions
from rhodolite.errors import UsageError, nearest_names
from rhodolite.extensions import find_extensions, load_extension

if TYPE_CHECKING:
    from rhodolite.operations.declaration import Operation

SUMMARIES = {
    "subset": "Variables, region, times and levels of a dataset.",
    "extract": "Series at the sites of a table, or of every cell of a box.",
    "annotate": "Names and attributes of variables, dimensions and the dataset.",
    "convert": "Other units, another order of latitudes and longitudes, packed integers.",
    "calc": "A new variable from a formula of ordinary arithmetic.",
    "aggregate": "Statistics over days, months, seasons, years and other periods.",
    "accumulate": "Running totals since the start of each year, season or month.",
    "window": "Running means, sums and other statistics over a window that moves along time.",
    "climatology": "The mean cycle over a base period, or another statistic of it.",
    "anomaly": "Departures from the mean cycle of a base period.",
    "index": "How unusual each month, season or year was, as one number.",
    "indicator": "Frost days, heavy rain, heat waves, growing seasons: indicators of daily "
    "weather.",
    "extremes": "Levels that are exceeded once in so many years, from the largest value of each "
    "year.",
    "trend": "Slopes of change over time at each cell, with error, p-value and significance.",
    "detrend": "Data without their trend, cell by cell.",
    "correlate": "Correlation with a series, or with another field cell by cell.",
    "composite": "Means over the times at which something was the case, against those of other "
    "times.",
    "patterns": "Patterns that explain most of the variance of a field, with their series and "
    "shares.",
    "spectrum": "Spectra of series or of every cell, with the red noise behind them, or harmonics "
    "of the year.",
    "adjust": "A model brought to observations: by its mean, its spread, or quantile by quantile.",
    "summarise": "A mean or another statistic over the area, regions, bands of latitude, or along "
    "an axis.",
    "regrid": "Values on another horizontal grid: of a step in degrees, or that of another file.",
    "relevel": "Values at other pressures, heights or depths.",
    "compare": "The difference to another dataset: everywhere, by cell over time, by time over the "
    "area, and overall.",
}
"""The summary of every verb, in the order in which people work."""


def operation(verb: str) -> type[Operation]:
    """Return the operation that a verb stands for.

    Raises
    ------
    UsageError
        If there is no such verb.
    """
    if verb not in SUMMARIES:
        return _operation_elsewhere(verb)
    cls: type[Operation] = getattr(
        import_module(f"rhodolite.operations.{verb}"), verb.capitalize()
    )
    return cls


def _operation_elsewhere(verb: str) -> type[Operation]:
    from rhodolite.operations.declaration import Operation

    if not is_operation(verb):
        raise UsageError(f"no verb '{verb}'. {nearest_names(verb, operation_names())}")
    cls: type[Operation] = load_extension(extensions.OPERATIONS, verb, Operation)
    cls.verb = verb
    return cls


def is_operation(verb: str) -> bool:
    """Return whether there is an operation of this name, here or in another package."""
    return verb in SUMMARIES or verb in find_extensions(extensions.OPERATIONS)


def operation_names() -> list[str]:
    """Return the verbs of all operations, those of other packages last."""
    return list(dict.fromkeys([*SUMMARIES, *find_extensions(extensions.OPERATIONS)]))


def all_operations() -> dict[str, type[Operation]]:
    """Return every operation of this package by its verb, in the order in which people work."""
    return {verb: operation(verb) for verb in SUMMARIES}
