"""Packing real values to integers over the range that they have."""

from __future__ import annotations

import numpy as np

from rhodolite.arrays import Engine, MinMax, Reduction
from rhodolite.errors import DataError, warn
from rhodolite.model.variable import Packing, Variable


def packing_over_range(variable: Variable, dtype: str, engine: Engine) -> Packing:
    """Return the packing that spreads the range of a variable over all integers of a type but the
    least.

    The least integer is left for missing values. Reads the data once; the step is reported.

    Parameters
    ----------
    variable : Variable
    dtype : str
        Integer type.
    engine : Engine
        What computes the values.

    Raises
    ------
    DataError
        If a value is infinite.
    """
    what = f"finding the range of {variable.name}"
    low, high = engine.compute(
        Reduction(variable.data, MinMax()).output("extremes", (2,)), what
    )
    if np.isinf(low) or np.isinf(high):
        raise DataError(
            f"{variable.name} holds infinite values, which no integers can stand for"
        )
    largest = int(np.iinfo(dtype).max)
    if not high > low:
        return Packing(dtype, 1.0, 0.0 if np.isnan(low) else float(low))
    packing = Packing(
        dtype, float(high - low) / (2 * largest), float(low) + float(high - low) / 2
    )
    warn(
        f"{variable.name} is packed to {dtype}, so its values change by up to "
        f"{packing.scale / 2:.2g} {variable.units or ''}".rstrip()
    )
    return packing
