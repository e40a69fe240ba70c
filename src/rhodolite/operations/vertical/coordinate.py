"""Vertical coordinates: those that are numbers, and pressures computed from a model's own levels
(CF appendix D)."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Aligned, Array, LazyArray, Mapped
from rhodolite.errors import DataError
from rhodolite.model.axes import Coordinate, Role
from rhodolite.model.cf.named_variables import pairs_in
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.level_direction import as_counted
from rhodolite.model.units.conversion import rescaling
from rhodolite.model.units.udunits import convert, convertible, is_pressure
from rhodolite.model.variable import Variable

_HYBRID = "atmosphere_hybrid_sigma_pressure_coordinate"
_SIGMA = "atmosphere_sigma_coordinate"
_LOG = "atmosphere_ln_pressure_coordinate"


_GRAVITY = 9.80665
"""m s-2."""


@dataclass(frozen=True)
class _Divided:
    change: Callable[[Array], Array]
    by: float

    def __call__(self, block: Array) -> Array:
        return np.asarray(self.change(block) / self.by)


@dataclass(frozen=True, eq=False)
class Vertical:
    """The levels of a dataset.

    Attributes
    ----------
    dimension : str
    units : str
        Of the heights; Pa where pressures are computed.
    values : ndarray of float64 or None
        Heights, where they are the same in all columns.
    terms : tuple of Variable
        Else what pressures are computed from.
    formula : callable or None
        Returns pressures from these, each along all dimensions of the data or of length 1.
    axis : Coordinate or None
        That of the heights, where they are the same in all columns.
    """

    dimension: str
    units: str
    values: Array | None
    terms: tuple[Variable, ...] = ()
    formula: Callable[..., Array] | None = None
    axis: Coordinate | None = None

    @classmethod
    def of(cls, dataset: Dataset) -> Vertical:
        """Return the levels of a dataset.

        Raises
        ------
        DataError
            If there is no vertical axis, or its heights cannot be found.
        """
        coordinate = dataset.need(Role.LEVEL)
        if coordinate.dimension is None:
            raise DataError(
                f"{dataset.label}: there is a single level, so there is nothing to interpolate "
                "between"
            )
        named = str(coordinate.variable.attributes.get("standard_name", ""))
        if "formula_terms" in coordinate.variable.attributes:
            return _compute_pressures(
                dataset, coordinate.variable, coordinate.dimension, named
            )
        units = coordinate.variable.units or "1"
        if not is_pressure(units) and not convertible(units, "m"):
            raise DataError(
                f"{dataset.label}: the levels ({coordinate.name}, in {units}) are not pressures, "
                "heights or depths, and have no formula_terms that say how to compute them"
            )
        return cls(coordinate.dimension, units, coordinate.values, axis=coordinate)

    @property
    def slack(self) -> float:
        """By how much a height may miss a level and still be meant."""
        return 0.0 if self.axis is None else self.axis.slack

    def counted(self, wanted: Array) -> Array:
        """Return heights that are asked for, in the units of the levels, with the sign that these
        have."""
        return wanted if self.axis is None else as_counted(wanted, self.axis)

    def nearest(self, wanted: Array) -> Array:
        """Return heights with those that are meant to be a level exactly on it, as 0.1 is in single
        precision."""
        if self.values is None or not self.values.size:
            return wanted
        at = np.abs(self.values[None, :] - wanted[:, None]).argmin(axis=1)
        return np.where(
            np.abs(self.values[at] - wanted) <= self.slack, self.values[at], wanted
        )

    def beyond(self, wanted: Array) -> NDArray[np.bool_]:
        """Return which heights lie above the highest or below the lowest level."""
        assert self.values is not None
        low, high = self.values.min() - self.slack, self.values.max() + self.slack
        return np.asarray((wanted < low) | (wanted > high))

    def ends_in(self, units: str) -> str:
        """Return the lowest and highest number of a level, in words."""
        assert self.values is not None
        ends = (self.values.min(), self.values.max())
        return " to ".join(
            f"{float(convert(end, self.units, units)):g}" for end in ends
        )

    @property
    def pressure(self) -> bool:
        return is_pressure(self.units)

    def given_by(self, variable: Variable) -> Vertical:
        """Return the same levels at the heights, or pressures, that a variable gives them.

        Raises
        ------
        DataError
            If it does not run along the levels, or is neither a height nor a pressure.
        """
        if self.dimension not in variable.dimensions:
            raise DataError(
                f"--by {variable.name}: it does not run along {self.dimension}"
            )
        units = variable.units or "1"
        if is_pressure(units) or convertible(units, "m"):
            return Vertical(self.dimension, units, None, (variable,), np.asarray)
        if convertible(units, "m2 s-2"):
            # A geopotential is a height times gravity (WMO-No. 8, volume I, annex 12.A).
            change = rescaling(variable, "m2 s-2")
            heights = variable.replace(
                data=Mapped(variable.floats(), _Divided(change, _GRAVITY), "f8"),
                missing=None,
            )
            return Vertical(self.dimension, "m", None, (heights,), np.asarray)
        raise DataError(
            f"--by {variable.name}: it is in {units}, and neither a height, a geopotential nor a "
            "pressure"
        )

    def heights(self, variable: Variable) -> list[LazyArray]:
        """Return the arrays that heights are computed from, aligned with a variable."""
        missing = [
            term.name
            for term in self.terms
            if not set(term.dimensions) <= set(variable.dimensions)
        ]
        if missing:
            raise DataError(
                f"{variable.name} does not run along all axes of {', '.join(missing)}"
            )
        return [
            Aligned(term.floats(), term.dimensions, variable.dimensions, variable.shape)
            for term in self.terms
        ]


def _compute_pressures(
    dataset: Dataset, variable: Variable, dimension: str, named: str
) -> Vertical:
    terms = pairs_in(variable, "formula_terms")
    lacking = [name for name in terms.values() if name not in dataset.variables]
    if lacking:
        raise DataError(
            f"{dataset.label}: pressures are computed from {', '.join(terms.values())}, and "
            f"{', '.join(lacking)} is not there; join the file that holds it"
        )

    def term(key: str) -> Variable:
        if key not in terms:
            raise DataError(
                f"{dataset.label}: the formula_terms of {variable.name} lack '{key}'"
            )
        return dataset.variables[terms[key]]

    if named == _HYBRID and "ap" in terms:
        return Vertical(
            dimension,
            "Pa",
            None,
            (_pascal(term("ap")), term("b"), _pascal(term("ps"))),
            _with_ap,
        )
    if named == _HYBRID:
        return Vertical(
            dimension,
            "Pa",
            None,
            (term("a"), term("b"), _pascal(term("ps")), _pascal(term("p0"))),
            _with_a,
        )
    if named == _SIGMA:
        return Vertical(
            dimension,
            "Pa",
            None,
            (term("sigma"), _pascal(term("ps")), _pascal(term("ptop"))),
            _with_sigma,
        )
    if named == _LOG:
        return Vertical(
            dimension, "Pa", None, (_pascal(term("p0")), term("lev")), _with_log
        )
    raise DataError(
        f"{dataset.label}: levels of {named or variable.name} are not understood; pressures, "
        f"heights, depths and {_HYBRID}, {_SIGMA}, {_LOG} are"
    )


def _with_ap(ap: Array, b: Array, ps: Array) -> Array:
    return np.asarray(ap + b * ps)


def _with_a(a: Array, b: Array, ps: Array, p0: Array) -> Array:
    return np.asarray(a * p0 + b * ps)


def _with_sigma(sigma: Array, ps: Array, ptop: Array) -> Array:
    return np.asarray(ptop + sigma * (ps - ptop))


def _with_log(p0: Array, lev: Array) -> Array:
    return np.asarray(p0 * np.exp(-lev))


def _pascal(variable: Variable) -> Variable:
    """Return a pressure in Pa."""
    units = variable.units or "Pa"
    if units == "Pa":
        return variable
    if not is_pressure(units):
        raise DataError(f"{variable.name} is a pressure but is in {units}")
    return variable.replace(
        data=Mapped(variable.floats(), rescaling(variable, "Pa"), "f8"), missing=None
    )
