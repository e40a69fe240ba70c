"""Where the formulas of operations come from."""

from __future__ import annotations

from collections.abc import Iterable

from rhodolite.operations.declaration import Step

_LEAST_SQUARES = "Draper and Smith 1998, Applied Regression Analysis, chapter 1"
_SEN = "Sen 1968, Journal of the American Statistical Association 63, 1379-1389"
_KENDALL = "Kendall 1975, Rank Correlation Methods, chapter 4"
_SEASONAL = "Hirsch, Slack and Smith 1982, Water Resources Research 18, 107-121"
_PERCENTILES = (
    "Hyndman and Fan 1996, The American Statistician 50, 361-365, definition 7"
)
_BY_SETTING = {
    "theil-sen": _SEN,
    "mann-kendall": _KENDALL,
    "seasonal-mann-kendall": _SEASONAL,
    "hamed-rao": "Hamed and Rao 1998, Journal of Hydrology 204, 182-196",
    "pre-whitening": "Wang and Swail 2001, Journal of Climate 14, 2204-2221",
    "ar1": "Wilks 2011, Statistical Methods in the Atmospheric Sciences, chapter 5",
}
_BY_FIELD = {
    "false_discovery": "Wilks 2016, Bulletin of the American Meteorological Society 97, 2263-2273",
}
_BY_VERB = {
    "detrend": _LEAST_SQUARES,
    "correlate": "Wilks 2011, Statistical Methods in the Atmospheric Sciences, chapter 5",
}
_INDICES = (
    "van Rooy 1965, Notos 14, 43-48",
    "Thom 1958, Monthly Weather Review 86, 117-122",
)
"""Of the rainfall anomaly index, and of the standardised one."""
_CF = "Eaton et al., NetCDF Climate and Forecast Metadata Conventions 1.11, section 7.4"


def sources_of(steps: Iterable[Step]) -> tuple[str, ...]:
    """Return the sources of what steps compute, each once, in order."""
    sources: list[str] = []
    for step in steps:
        values = {
            name: str(value) for name, value in vars(step).items() if value is not None
        }
        if step.verb in _BY_VERB:
            sources.append(_BY_VERB[step.verb])
        if step.verb == "trend" and "theil" not in values.get("method", ""):
            sources.append(_LEAST_SQUARES)
        if step.verb in ("climatology", "anomaly"):
            sources.append(_CF)
        if step.verb == "regrid" and values.get("method") == "conservative":
            sources.append("Jones 1999, Monthly Weather Review 127, 2204-2210")
        if step.verb == "index":
            sources.append(_INDICES[values["kind"] == "standardised"])
        if any(
            part in values.get("statistic", "") for part in ("median", "p5", "p9", "p1")
        ):
            sources.append(_PERCENTILES)
        sources += [
            _BY_SETTING[value] for value in values.values() if value in _BY_SETTING
        ]
        sources += [
            text for name, text in _BY_FIELD.items() if getattr(step, name, None)
        ]
    return tuple(dict.fromkeys(sources))
