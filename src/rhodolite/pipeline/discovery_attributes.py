"""Attributes by which others find a dataset: its extents in space and time (ACDD 1.3)."""

from __future__ import annotations

from typing import Any

import numpy as np

from rhodolite.arrays import whole
from rhodolite.model.axes import Coordinate, Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.time_axis import TimeAxis

_ISO = "%Y-%m-%dT%H:%M:%S"
_PREFIXES = ("geospatial_", "time_coverage_")


def discovery_attributes(dataset: Dataset) -> dict[str, Any]:
    """Return the extents of a dataset as attributes, for the coordinates that it has.

    Parameters
    ----------
    dataset : Dataset
    """
    found: dict[str, Any] = {}
    for role, word in ((Role.LATITUDE, "lat"), (Role.LONGITUDE, "lon"), (Role.LEVEL, "vertical")):
        coordinate = dataset.coordinate(role)
        if (
            coordinate is not None
            and coordinate.values.size
            and np.isfinite(coordinate.values).all()
        ):
            low, high = _extent(coordinate)
            found |= {f"geospatial_{word}_min": low, f"geospatial_{word}_max": high}
            if coordinate.variable.units:
                found[f"geospatial_{word}_units"] = coordinate.variable.units
    for name, word in zip(
        dataset.axes.curvilinear or dataset.axes.sites or (), ("lat", "lon"), strict=False
    ):
        values = np.asarray(
            dataset.variables[name].floats().read(whole(dataset.variables[name].shape))
        )
        if np.isfinite(values).any():
            found |= {
                f"geospatial_{word}_min": float(np.nanmin(values)),
                f"geospatial_{word}_max": float(np.nanmax(values)),
            }
            found[f"geospatial_{word}_units"] = dataset.variables[name].units or "degree"
    level = dataset.coordinate(Role.LEVEL)
    if level is not None and "positive" in level.variable.attributes:
        found["geospatial_vertical_positive"] = level.variable.attributes["positive"]
    if dataset.time is not None and len(dataset.time):
        found["time_coverage_start"], found["time_coverage_end"] = _period(dataset.time)
    return found


def drop_discovery_attributes(attributes: dict[str, Any]) -> dict[str, Any]:
    """Return attributes without extents, which are no longer true when data have been chosen
    from.

    Parameters
    ----------
    attributes : mapping of str to object
    """
    return {key: value for key, value in attributes.items() if not key.startswith(_PREFIXES)}


def _extent(coordinate: Coordinate) -> tuple[float, float]:
    """Return minimum and maximum coordinate, those of the cells' bounds where there are some."""
    edges = coordinate.values if coordinate.bounds is None else coordinate.bounds
    edges = edges if np.isfinite(edges).all() else coordinate.values
    return float(edges.min()), float(edges.max())


def _period(axis: TimeAxis) -> tuple[str, str]:
    """Return the first and last moment in ISO 8601, those of the bounds where there are some."""
    edges = axis.numbers if axis.bounds is None else axis.bounds
    edges = edges if np.isfinite(edges).all() else axis.numbers
    first, last = axis.to_dates(np.array([edges.min(), edges.max()]))
    return first.strftime(_ISO), last.strftime(_ISO)
