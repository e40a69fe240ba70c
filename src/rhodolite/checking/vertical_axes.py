"""Vertical axes: units and which way is up (CF 4.3)."""

from __future__ import annotations

from collections.abc import Iterator

from rhodolite.checking.finding import Finding, error
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.level_direction import usual_direction
from rhodolite.model.units.udunits import is_pressure
from rhodolite.model.variable import Variable


def direction(dataset: Dataset) -> Iterator[Finding]:
    """A vertical axis other than pressure says which way it runs, and rightly."""
    coordinate = dataset.coordinate(Role.LEVEL)
    if coordinate is None:
        return
    variable = coordinate.variable
    name, usual = variable.name, usual_direction(variable)
    problem = _problem_of(variable, usual)
    if problem is None:
        return
    if usual is not None:
        yield error(name, problem, "CF 4.3", ("--set", f"{name}:positive={usual}"))
    else:
        # Which of both it is, only whoever made the data knows.
        advice = f"--set {name}:positive=up, or down"
        yield error(name, problem, "CF 4.3", advice=advice)


def _problem_of(variable: Variable, usual: str | None) -> str | None:
    """Return what is wrong with the direction that an axis tells; None where nothing is."""
    given = variable.attributes.get("positive")
    if given is None:
        if is_pressure(variable.units or ""):
            return None
        return "is a vertical axis and does not say whether its numbers grow upward or downward"
    direction_given = str(given).lower()
    if direction_given not in ("up", "down"):
        return f"positive is '{given}'; it can be up or down"
    if usual is None or direction_given == usual:
        return None
    way = "upward" if usual == "up" else "downward"
    return f"positive is {given}, but the numbers of {variable.quantity} grow {way}"


CHECKS = (direction,)
