"""What kind of content each variable is (ACDD 1.3), and whether temperatures are on the scale or
differences (CF 3.1.2)."""

from __future__ import annotations

import re

from rhodolite.model.cf.cell_methods import holds_values
from rhodolite.model.dataset import Dataset
from rhodolite.model.units.differences import Zero, read_zero
from rhodolite.model.units.udunits import convertible
from rhodolite.model.variable import Variable

_MODELLED = re.compile(
    r"\b(model|simulat|reanalys|synthetic|ensemble|forecast|projection)", re.I
)
_MEASURED = re.compile(
    r"\b(observ|measure|station|gauge|satellite|radar|buoy|radiosonde)", re.I
)
_PLAIN_TEMPERATURE = re.compile(r"(?!tendency|change|difference|product)\w*temperature")


def describe_contents(dataset: Dataset) -> Dataset:
    """Return a dataset whose variables say what kind of content they are, as far as that is
    known.
    """
    source = str(dataset.attributes.get("source", ""))
    fields = {variable.name for variable in dataset.fields}
    kinds: dict[str, str | None] = dict.fromkeys(_coordinates_of(dataset), "coordinate")
    kinds |= {
        variable.name: _kind_of_field(variable, source) for variable in dataset.fields
    }

    def described(variable: Variable) -> Variable:
        kind = kinds.get(variable.name)
        added = {} if kind is None else {"coverage_content_type": kind}
        if variable.name in fields and _is_on_scale(variable):
            added["units_metadata"] = "temperature: on_scale"
        # What the data say themselves stands.
        return variable.edit(**{**added, **variable.attributes}) if added else variable

    return dataset.with_variables(described(v) for v in dataset.variables.values())


def _coordinates_of(dataset: Dataset) -> set[str]:
    """Return the names of all that says where or when values are."""
    axes = dataset.axes
    names = {coordinate.name for coordinate in axes.by_role.values()}
    return names.union(dataset.lengths, axes.curvilinear or (), axes.sites or ())


def _kind_of_field(variable: Variable, source: str) -> str | None:
    """Return the kind of a data variable; None where nothing tells whether it was measured."""
    if "flag_values" in variable.attributes or "flag_masks" in variable.attributes:
        return "thematicClassification"
    modelled, measured = _MODELLED.search(source), _MEASURED.search(source)
    if bool(modelled) == bool(measured):
        return None
    return "modelResult" if modelled else "physicalMeasurement"


def _is_on_scale(variable: Variable) -> bool:
    about = variable.attributes
    name = str(about.get("standard_name", "")).split(" ")[0]
    return (
        "units_metadata" not in about
        and _PLAIN_TEMPERATURE.fullmatch(name) is not None
        and convertible("K", variable.units or "1")
        and read_zero(variable).zero is Zero.ON_SCALE
        and holds_values(about)
    )
