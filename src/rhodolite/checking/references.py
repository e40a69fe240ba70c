"""What variables say of each other: coordinates, bounds, projections, cell methods."""

from __future__ import annotations

import re
from collections.abc import Iterator

from rhodolite.checking.finding import Finding, error, warning
from rhodolite.model.cf.named_variables import (
    astray_in,
    lost_in,
    mapping_of,
    misspelled_in,
    named_in,
)
from rhodolite.model.cf.vocabulary import CELL_BOUNDS
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable

_KEYS = ("coordinates", *CELL_BOUNDS, "ancillary_variables")
_SECTIONS = {
    "bounds": "CF 7.1",
    "climatology": "CF 7.4",
    "ancillary_variables": "CF 3.4",
    "cell_measures": "CF 7.2",
    "formula_terms": "CF 4.3.3",
    "grid_mapping": "CF 5.6",
}
_METHODS = (
    "point",
    "sum",
    "maximum",
    "maximum_absolute_value",
    "median",
    "mid_range",
    "minimum",
    "minimum_absolute_value",
    "mean",
    "mean_absolute_value",
    "mean_of_upper_decile",
    "mode",
    "range",
    "root_mean_square",
    "standard_deviation",
    "sum_of_squares",
    "variance",
)
_MAPPINGS = (
    "albers_conical_equal_area",
    "azimuthal_equidistant",
    "geostationary",
    "lambert_azimuthal_equal_area",
    "lambert_conformal_conic",
    "lambert_cylindrical_equal_area",
    "latitude_longitude",
    "mercator",
    "oblique_mercator",
    "orthographic",
    "polar_stereographic",
    "rotated_latitude_longitude",
    "sinusoidal",
    "stereographic",
    "transverse_mercator",
    "vertical_perspective",
)
_METHOD = re.compile(
    r"((?:[\w.-]+:\s+)+)([a-z_]+)((?:\s+(?:within|over|where)\s+\w+)*)(\s*\([^)]*\))?\s*"
)


def present(dataset: Dataset) -> Iterator[Finding]:
    """Variables that others refer to are there (CF 5, 7.1, 3.4)."""
    for variable in dataset.variables.values():
        for key, spelled in misspelled_in(variable).items():
            yield _misspelled(variable, key, spelled)
        for key in _KEYS:
            if lost := lost_in(variable, key, dataset.variables.keys()):
                yield _lost(variable, key, lost)
        # Observations one after another have the positions of their stations (CF 9.3).
        if "featureType" in dataset.attributes:
            continue
        for key in ("coordinates", "cell_measures"):
            if astray := astray_in(variable, key, dataset.variables):
                yield _astray(variable, key, astray)


def _misspelled(variable: Variable, key: str, spelled: str) -> Finding:
    return error(
        variable.name,
        f"names variables as '{variable.attributes[key]}', where CF has '{spelled}'",
        _SECTIONS.get(key, "CF 5"),
        ("--set", f"{variable.name}:{key}={spelled}"),
    )


def _lost(variable: Variable, key: str, lost: list[str]) -> Finding:
    remaining = " ".join(w for w in named_in(variable, key) if w not in lost)
    place = f"{variable.name}:{key}"
    return error(
        variable.name,
        f"names {', '.join(lost)} as {key}, which is not there",
        _SECTIONS.get(key, "CF 5"),
        ("--set", f"{place}={remaining}") if remaining else ("--remove", place),
    )


def _astray(variable: Variable, key: str, astray: list[str]) -> Finding:
    remaining = " ".join(w for w in named_in(variable, key) if w not in astray)
    place = f"{variable.name}:{key}"
    is_list = key == "coordinates" and remaining
    return error(
        variable.name,
        f"names {', '.join(astray)} as {key}, which has dimensions that {variable.name} has not",
        _SECTIONS.get(key, "CF 5"),
        ("--set", f"{place}={remaining}") if is_list else ("--remove", place),
    )


def projections(dataset: Dataset) -> Iterator[Finding]:
    """Grid mappings are there and of a known kind (CF 5.6)."""
    reported: set[str] = set()
    for variable in dataset.variables.values():
        name = mapping_of(variable)
        if not name or name in reported:
            continue
        reported.add(name)
        if name not in dataset.variables:
            yield error(
                variable.name,
                f"names {name} as grid_mapping, which is not there",
                "CF 5.6",
                ("--remove", f"{variable.name}:grid_mapping"),
            )
            continue
        kind = dataset.variables[name].attributes.get("grid_mapping_name")
        if kind is None or str(kind) not in _MAPPINGS:
            what = (
                f"its grid_mapping_name '{kind}' is none that CF knows"
                if kind
                else "has no grid_mapping_name"
            )
            yield error(
                name, what, "CF 5.6", advice=f"it can be {', '.join(_MAPPINGS)}"
            )


def cell_methods(dataset: Dataset) -> Iterator[Finding]:
    """Cell methods are written as `name: method` (CF 7.3)."""
    for variable in dataset.variables.values():
        text = str(variable.attributes.get("cell_methods", "")).strip()
        if not text:
            continue
        rest = text
        while rest and (match := _METHOD.match(rest)):
            if match.group(2) not in _METHODS:
                yield error(
                    variable.name,
                    f"the cell method '{match.group(2)}' is none that CF knows",
                    "CF 7.3",
                    advice=f"it can be {', '.join(_METHODS)}",
                )
            rest = rest[match.end() :]
        if rest:
            yield error(
                variable.name,
                f"the cell methods '{text}' cannot be read from '{rest}' on",
                "CF 7.3",
                advice=f"write them as in 'time: mean': --set '{variable.name}:cell_methods=time: "
                "mean'",
            )


def sites(dataset: Dataset) -> Iterator[Finding]:
    """Data of sites say which variable names them (CF 9.5)."""
    feature = dataset.attributes.get("featureType")
    if feature is not None and not any(
        "cf_role" in v.attributes for v in dataset.variables.values()
    ):
        yield warning(
            "featureType",
            f"is {feature}, but no variable has a cf_role that names the features",
            "CF 9.5",
            advice="--set NAME:cf_role=timeseries_id, for the variable that holds the names",
        )


CHECKS = (present, projections, cell_methods, sites)
