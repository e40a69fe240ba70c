"""The first level from the ground or the surface at which a condition is met, and integrals over
levels."""

from __future__ import annotations

from abc import abstractmethod

import numpy as np

from rhodolite.arrays import Array, LazyArray, Region
from rhodolite.errors import DataError
from rhodolite.kernels.moments import sum_rows
from rhodolite.kernels.vertical_interpolation import at_levels, first_crossing
from rhodolite.model.cf.named_variables import placing_of
from rhodolite.model.dataset import Dataset
from rhodolite.model.units.conversion import rescaling_between
from rhodolite.model.units.udunits import convert, convertible
from rhodolite.model.variable import UNITS_OF_ONE, Storage, Variable
from rhodolite.operations.parameters.threshold import Threshold
from rhodolite.operations.vertical.conditions import ColumnCondition
from rhodolite.operations.vertical.coordinate import Vertical


def find_first_level(dataset: Dataset, condition: ColumnCondition) -> Variable:
    """Return the height at which a condition is met first.

    Parameters
    ----------
    dataset : Dataset
    condition : ColumnCondition

    Raises
    ------
    DataError
        If there are no levels, or units do not go together.
    """
    vertical = Vertical.of(dataset)
    variable = dataset[condition.variable]
    if vertical.dimension not in variable.dimensions:
        raise DataError(f"{variable.name} does not run along {vertical.dimension}")
    if vertical.values is None:
        raise DataError(
            f"--find: heights differ from column to column; bring {variable.name} to levels of one "
            "kind first, such as relevel --to 1000hPa..100hPa/25hPa"
        )
    along = variable.dimensions.index(vertical.dimension)
    order = _from_the_surface(vertical)
    reference = None
    if condition.level is not None:
        reference = _reference_level(condition, vertical)
    threshold = _threshold(variable, condition)
    data = FirstLevel(
        variable.floats(),
        along,
        vertical.values[order],
        order,
        condition.sign,
        threshold,
        reference,
        logarithmic=vertical.pressure,
        dtype=variable.precision,
    )
    about = placing_of(variable)
    what = "pressure" if vertical.pressure else "height or depth"
    about["long_name"] = f"first {what} from the surface where {condition}"
    about["units"] = vertical.units
    about["comment"] = "between levels by straight lines" + (
        " in the logarithm of pressure" if vertical.pressure else ""
    )
    dims = tuple(d for d in variable.dimensions if d != vertical.dimension)
    storage = Storage(dtype="float64")
    return Variable(f"first_{vertical.dimension}", dims, data, about, storage)


def _from_the_surface(vertical: Vertical) -> Array:
    """Return the levels from the ground upwards, or from the surface of the sea downwards."""
    assert vertical.values is not None
    values = vertical.values
    # Pressures fall from the ground up; heights and depths are counted from the surface.
    return np.argsort(-values if vertical.pressure else np.abs(values), kind="stable")


def _reference_level(condition: ColumnCondition, vertical: Vertical) -> float:
    """Return the level from which a difference is, as the axis counts it."""
    assert condition.level is not None
    own, units = vertical.units, condition.level_units or vertical.units
    if not convertible(units, own):
        raise DataError(
            f"--find: the levels are in {own}, which {units} cannot be converted to"
        )
    typed = np.array([convert(condition.level, units, own)], dtype=np.float64)
    level = vertical.nearest(vertical.counted(typed))
    if vertical.beyond(level).any():
        raise DataError(
            f"--find '{condition}': {condition.level:g} {units} lies beyond the levels that there "
            f"are ({vertical.ends_in(units)} {units})"
        )
    return float(level[0])


def _threshold(variable: Variable, condition: ColumnCondition) -> float:
    """Return the number of a condition in the units of the variable."""
    if condition.level is None:
        threshold = Threshold(condition.number, condition.units)
        return threshold.within(variable, f"--find '{condition}'")
    own = variable.units or UNITS_OF_ONE
    if not condition.units:
        return condition.number
    try:
        change = rescaling_between(condition.units, own, difference=True)
    except ValueError:
        raise DataError(
            f"--find '{condition}': {variable.name} is in {own}, which {condition.units} cannot be "
            "converted to"
        ) from None
    return change.of(condition.number)


class _OfColumns(LazyArray):
    """What is made of each column of another array.

    Parameters
    ----------
    source : LazyArray
    axis : int
        Of its levels.
    """

    dtype = np.dtype("f8")

    def __init__(self, source: LazyArray, axis: int) -> None:
        self._source, self._axis = source, axis
        self.shape = (*source.shape[:axis], *source.shape[axis + 1 :])
        if source.chunks is not None:
            self.chunks = (*source.chunks[:axis], *source.chunks[axis + 1 :])

    def sources(self) -> tuple[LazyArray, ...]:
        return (self._source,)

    @property
    def decoded_share(self) -> float:
        return self._source.decoded_share * self._source.shape[self._axis]

    def read(self, region: Region) -> Array:
        whole = slice(0, self._source.shape[self._axis])
        inner = (*region[: self._axis], whole, *region[self._axis :])
        values = np.moveaxis(self._source.read(inner), self._axis, 0)
        return self._of(values.astype(np.float64))

    @abstractmethod
    def _of(self, values: Array) -> Array:
        """Return what is made of values of shape (levels, *cells)."""


class FirstLevel(_OfColumns):
    """The height at which a condition is met first, column by column.

    Parameters
    ----------
    source : LazyArray
    axis : int
        Of its levels.
    heights : ndarray of float64
        Of the levels from the surface on.
    order : ndarray of int
        Where these lie in the source.
    sign : {"<", ">", "differs"}
    threshold : float
    reference : float, optional
        Height from which a difference is.
    logarithmic : bool
        Whether straight lines are in the logarithm of the heights.
    dtype : {"f4", "f8"}
        Type in which values are compared with the threshold.
    """

    def __init__(
        self,
        source: LazyArray,
        axis: int,
        heights: Array,
        order: Array,
        sign: str,
        threshold: float,
        reference: float | None,
        *,
        logarithmic: bool,
        dtype: str,
    ) -> None:
        super().__init__(source, axis)
        self._order = order
        self._sign, self._threshold = sign, threshold
        scale = np.log if logarithmic else np.asarray
        self._levels = heights
        self._heights = np.asarray(scale(heights), dtype=np.float64)
        self._reference = None if reference is None else float(scale(reference))
        self._logarithmic = logarithmic
        # What differs is computed, and in double precision.
        self._dtype = "f8" if sign == "differs" else dtype

    def _of(self, values: Array) -> Array:
        values = values[self._order]
        heights = self._heights
        if self._reference is not None:
            values, heights = self._from_reference(values)
        above = self._sign != "<"
        places = first_crossing(
            values,
            heights,
            self._threshold,
            above=above,
            or_equal=self._sign == "differs",
            dtype=self._dtype,
        )
        return self._as_heights(places)

    def _as_heights(self, places: Array) -> Array:
        """Return heights, those of levels exactly as they are."""
        if not self._logarithmic:
            return places
        heights = np.exp(places)
        for level, place in zip(self._levels, self._heights, strict=True):
            heights[places == place] = level
        return heights

    def _from_reference(self, values: Array) -> tuple[Array, Array]:
        """Return sizes of differences from the reference level, and the heights beyond it."""
        assert self._reference is not None
        wanted = np.array([self._reference])
        there = at_levels(values, self._heights, wanted, extrapolate=False)
        distance = np.abs(self._heights - self._heights[0])
        beyond = distance > abs(self._reference - self._heights[0]) + 1e-9
        sizes = np.abs(values[beyond] - there)
        rows = np.concatenate([np.where(np.isnan(there), np.nan, 0.0), sizes])
        return rows, np.concatenate([wanted, self._heights[beyond]])


class LevelIntegral(_OfColumns):
    """The sum of values times the thickness of their layers; missing ones add nothing."""

    def __init__(self, source: LazyArray, axis: int, thickness: Array) -> None:
        super().__init__(source, axis)
        self._thickness = thickness

    def _of(self, values: Array) -> Array:
        columns = self._thickness.reshape(-1, *(1,) * (values.ndim - 1))
        total = sum_rows(np.where(np.isnan(values), 0.0, columns * values))
        return np.where(np.isnan(values).all(axis=0), np.nan, total)
