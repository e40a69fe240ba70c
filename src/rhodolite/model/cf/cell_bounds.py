"""What can be the bounds of a coordinate."""

from __future__ import annotations

from rhodolite.model.variable import Variable


def why_no_bounds(variable: Variable, bounds: Variable) -> str | None:
    """Return what keeps a variable from being the bounds of another (CF 7.1); None where it can
    be.
    """
    if bounds.data.dtype.kind not in "fiu":
        return "it holds no numbers"
    if not bounds.shape or bounds.dimensions[:-1] != variable.dimensions:
        along, needed = ", ".join(bounds.dimensions), ", ".join(variable.dimensions)
        return f"its dimensions are ({along}) and not ({needed}) and one more"
    ends = bounds.shape[-1]
    plain = not variable.shape or variable.dimensions == (variable.name,)
    if ends < 2 or (plain and ends != 2):
        return f"it has {ends} values for each, where 2 are needed"
    return None
