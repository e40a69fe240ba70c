"""Years with decimals, such as 2001.042, that stand for months."""

from __future__ import annotations

import numpy as np

from rhodolite.arrays import Array

_MONTHS = 12
_ROUNDING = 0.15
"""Of a month: what two decimals of a year, or months of unequal length, may be off."""


def count_twelfths(years: Array, first_year: int) -> Array | None:
    """Return months since the start of a year, a half more where their middles are told, of years
    with decimals that are twelfths, as tables of monthly values have them; None for others.

    A single phase of the year (2001.5, 2002.5) tells no months.

    Parameters
    ----------
    years : ndarray
        Of any shape, such as 2001.0, 2001.083 or 2001.042, 2001.125.
    first_year : int
        From whose start months are counted.

    Examples
    --------
    >>> import numpy as np
    >>> count_twelfths(np.array([2001.042, 2001.125, 2002.042]), 2001)
    array([ 0.5,  1.5, 12.5])
    >>> count_twelfths(np.array([2001.0, 2001.003, 2001.005]), 2001) is None
    True
    """
    months = (years - first_year) * _MONTHS
    for offset in (0.0, 0.5):
        whole = np.round(months - offset)
        if np.abs(months - offset - whole).max() > _ROUNDING:
            continue
        ordered = np.sort(whole, axis=None)
        if (np.diff(ordered) == 1).any():
            return np.asarray(whole + offset)
    return None
