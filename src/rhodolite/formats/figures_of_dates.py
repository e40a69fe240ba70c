"""Times that are figures of the calendar, such as 200101 or 2001.5, in units that CF can read."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from rhodolite.arrays import Array, InMemory, read_small
from rhodolite.errors import warn
from rhodolite.formats.decimal_years import count_twelfths
from rhodolite.model.axes import Role
from rhodolite.model.cf.named_variables import named_in
from rhodolite.model.cf.vocabulary import CELL_BOUNDS
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Storage, Variable

_DAY_FIGURES = "day as %Y%m%d.%f"
_JULIAN_DAYS = "days since -4713-01-01 12:00:00"
_NAMES = ("time", "date", "dates", "yyyymm", "yyyymmdd", "year", "years", "month")
_DAYS, _MONTHS, _YEARS, _JULIAN = "days", "months", "years", "days of the Julian period"
_BY_UNITS = {
    "yyyymmdd": _DAYS,
    "yyyymm": _MONTHS,
    "month as %y%m.%f": _MONTHS,
    "yyyy": _YEARS,
    "year": _YEARS,
    "years": _YEARS,
    "decimal year": _YEARS,
    "decimal years": _YEARS,
    "calendar year": _YEARS,
    "year as %y.%f": _YEARS,
    "jd": _JULIAN,
    "julian day": _JULIAN,
    "julian days": _JULIAN,
}
_LIKELY_YEARS = (1500, 2500)
"""That numbers without units are taken for; a count of steps hardly begins there."""
_ALL_YEARS = (1, 10000)


@dataclass(frozen=True)
class _Reading:
    """Units in which figures are counted, and what they are of."""

    units: str
    kind: str
    first_year: int
    are_twelfths: bool = False

    def counted(self, figures: Array) -> Array:
        """Return numbers in these units."""
        if self.kind == _MONTHS:
            whole = np.floor(figures)
            years, months = np.divmod(whole, 100)
            counted = (years - self.first_year) * 12 + months - 1
            return np.asarray(counted + (figures - whole))
        if self.kind == _YEARS and self.are_twelfths:
            # Bounds lie at the starts of months where the times are their middles.
            return np.asarray(np.round((figures - self.first_year) * 24) / 2)
        if self.kind == _YEARS:
            return np.asarray(figures - self.first_year)
        return np.asarray(figures)


def read_figures(dataset: Dataset) -> Dataset:
    """Return a dataset whose figures of dates are a time axis, where it has no other: 200101 for
    January 2001, 20010131 for its last day, 2001.5 for the middle of that year."""
    if dataset.coordinate(Role.TIME) is not None:
        return dataset
    for variable in dataset.variables.values():
        reading = _read(variable)
        if reading is None:
            continue
        given = f"'{variable.units}'" if (variable.units or "").strip() else "no units"
        warn(
            f"{dataset.label}: {variable.name} has {given}, and its numbers, such as "
            f"{_numbers(variable)[0]:.10g}, are read as {reading.kind}"
        )
        bounds = {name for key in CELL_BOUNDS for name in named_in(variable, key)}
        changed = []
        for other in dataset.variables.values():
            if other is variable or other.name in bounds:
                counted = InMemory(reading.counted(_numbers(other)))
                other = other.replace(data=counted, missing=None, storage=Storage())
            if other.name == variable.name:
                other = other.edit(units=reading.units, standard_name="time")
            changed.append(other)
        return dataset.with_variables(changed)
    return dataset


def _read(variable: Variable) -> _Reading | None:
    """Return how the numbers of a variable are figures of dates; None where they are not."""
    if not _can_be_times(variable):
        return None
    figures = _numbers(variable)
    kind = _kind_of(figures, (variable.units or "").strip().lower())
    if kind is None:
        return None
    if kind == _JULIAN:
        return _Reading(_JULIAN_DAYS, kind, 0)
    if kind == _DAYS:
        return _Reading(_DAY_FIGURES, kind, 0)
    first = int(figures.min() // (100 if kind == _MONTHS else 1))
    if kind == _YEARS and count_twelfths(figures, first) is not None:
        return _Reading(f"{_MONTHS} since {first:04d}-01-01", kind, first, True)
    return _Reading(f"{kind} since {first:04d}-01-01", kind, first)


def _can_be_times(variable: Variable) -> bool:
    """Return whether a variable of numbers is an axis, or a scalar, that is named or marked as
    time."""
    about = variable.attributes
    is_marked = about.get("standard_name") == "time" or about.get("axis") == "T"
    is_named = is_marked or variable.name.lower() in _NAMES
    is_axis = variable.dimensions in ((variable.name,), ())
    return bool(
        is_named
        and is_axis
        and variable.data.dtype.kind in "fiu"
        and variable.data.size
    )


def _kind_of(figures: Array, units: str) -> str | None:
    """Return what numbers in some units are figures of; None where they cannot be that."""
    if not np.isfinite(figures).all():
        return None
    if units in ("", "1"):
        return _guess(figures)
    kind = _BY_UNITS.get(units)
    return kind if kind is not None and _are(kind, figures, _ALL_YEARS) else None


def _guess(figures: Array) -> str | None:
    """Return what numbers without units are figures of."""
    whole = (figures == np.floor(figures)).all()
    kinds = (_DAYS, _MONTHS, _YEARS) if whole else (_YEARS,)
    return next((k for k in kinds if _are(k, figures, _LIKELY_YEARS)), None)


def _are(kind: str, figures: Array, span: tuple[int, int]) -> bool:
    """Return whether all numbers can be figures of a kind, of years within a span."""
    if kind == _JULIAN:
        return bool((figures > 0).all())
    if kind == _YEARS:
        years = figures
    elif kind == _MONTHS:
        years, months = np.divmod(np.floor(figures), 100)
        if not ((months >= 1) & (months <= 12)).all():
            return False
    else:
        years, days = np.divmod(np.floor(figures), 10000)
        months, days = np.divmod(days, 100)
        months_fit = (months >= 1) & (months <= 12)
        if not (months_fit & (days >= 1) & (days <= 31)).all():
            return False
    return bool(((years >= span[0]) & (years < span[1])).all())


def _numbers(variable: Variable) -> Array:
    return read_small(variable.floats()).astype(np.float64).reshape(variable.shape)
