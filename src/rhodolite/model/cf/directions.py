"""Directions, whose degrees begin again: 350 and 10 are 20 apart."""

from __future__ import annotations

import re
from collections.abc import Iterable

from rhodolite.errors import warn
from rhodolite.model.units.udunits import convertible
from rhodolite.model.variable import Variable

_WORDS = re.compile(r"\b(?:direction|azimuth|bearing)\b")
_ANGLE = re.compile(r"(?:arc_?)?deg(?:ree)?s?\b|rad(?:ian)?s?\b|°", re.IGNORECASE)


def is_direction(variable: Variable) -> bool:
    """Return whether values are angles from north, by the words and the units of a variable."""
    # A formula that gives a direction stands in the comment.
    keys = ("standard_name", "long_name", "comment")
    texts = (str(variable.attributes.get(key, "")) for key in keys)
    words = " ".join(texts).replace("_", " ").lower()
    units = variable.units or ""
    is_angle = _ANGLE.match(units) is not None and convertible(units, "degree")
    return is_angle and _WORDS.search(words) is not None


def warn_of_directions(variables: Iterable[Variable]) -> None:
    """Warn of values that are about to be added up as if they were no directions."""
    names = [variable.name for variable in variables if is_direction(variable)]
    if names:
        warn(
            f"{', '.join(names)}: degrees of a direction begin again at north, so that 350 and 10 "
            "have a mean of 180; work on the components, such as of the wind, and take "
            "direction(u, v) of what comes out (calc)"
        )
