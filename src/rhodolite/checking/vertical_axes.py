"""Vertical axes: units and which way is up (CF 4.3)."""

from __future__ import annotations

from collections.abc import Iterator

from rhodolite.checking.finding import Finding, error
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.level_direction import usual_direction
from rhodolite.model.units.udunits import is_pressure


def direction(dataset: Dataset) -> Iterator[Finding]:
    """A vertical axis other than pressure says which way it runs, and rightly."""
    coordinate = dataset.coordinate(Role.LEVEL)
    if coordinate is None:
        return
    variable = coordinate.variable
    name, given = variable.name, variable.attributes.get("positive")
    usual = usual_direction(variable)
    change = ("--set", f"{name}:positive={usual}") if usual else None
    if given is None:
        if not is_pressure(variable.units or ""):
            yield error(
                name,
                "is a vertical axis and does not say whether its numbers grow upward or downward",
                "CF 4.3",
                *([change] if change else []),
                advice="" if change else f"--set {name}:positive=up, or down",
            )
    elif str(given).lower() not in ("up", "down"):
        yield error(
            name,
            f"positive is '{given}'; it can be up or down",
            "CF 4.3",
            *([change] if change else []),
        )
    elif usual is not None and str(given).lower() != usual:
        yield error(
            name,
            f"positive is {given}, but the numbers of {variable.quantity} grow "
            f"{'upward' if usual == 'up' else 'downward'}",
            "CF 4.3",
            ("--set", f"{name}:positive={usual}"),
        )


CHECKS = (direction,)
