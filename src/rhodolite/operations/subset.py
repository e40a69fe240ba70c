"""Choosing part of a dataset."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from rhodolite.errors import DataError, UsageError, nearest_names, warn
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.indexing import take, turn_longitudes
from rhodolite.model.space.range_text import (
    Choices,
    Every,
    LatitudeRange,
    Levels,
    LongitudeRange,
    Position,
    format_longitude,
)
from rhodolite.model.time.period_text import Months, Period, Season, Years
from rhodolite.operations.declaration import Operation, parameter
from rhodolite.operations.expressions.chosen_times import TimesWhere
from rhodolite.operations.parameters.other_dataset import OtherDataset
from rhodolite.operations.parameters.regions import CellChoice, Regions
from rhodolite.operations.parameters.utc_offset import UtcOffset
from rhodolite.operations.selection import curvilinear
from rhodolite.operations.selection.indices import (
    latitude_indices,
    longitude_indices,
    position_indices,
    take_cells,
    take_steps,
    time_indices,
)
from rhodolite.operations.selection.level_indices import level_indices
from rhodolite.operations.selection.region_mask import cut_regions
from rhodolite.operations.selection.value_indices import value_indices
from rhodolite.operations.time_groups.local_time import in_local_time

_SHORT = {
    "lat": Role.LATITUDE,
    "lon": Role.LONGITUDE,
    "time": Role.TIME,
    "level": Role.LEVEL,
}


@dataclass(frozen=True)
class Subset(Operation):
    """Variables, region, times and levels of a dataset.

    Keeps every grid cell whose centre lies within the closed ranges given. Longitudes are
    compared modulo 360 and run eastward, so 170E..160W crosses the dateline and comes out as
    one contiguous block, counted from the western end as typed; of 178E.. the other end is where
    the data end, however they number their longitudes. A single latitude or longitude
    selects the row or column of cells that contains it. On grids with two-dimensional latitude
    and longitude the smallest block that contains the selection is kept, and its cells outside
    the ranges become missing; of sites, those within the ranges are kept, or the one nearest to
    a position.

    With a season, years are those in which the season ends: DJF of 2014 begins in December
    2013. Values are not changed and nothing is averaged. With a region, the cells that it
    touches are kept, and the variable `covered_area` holds the area with which each is
    weighted: its covered part, or with `--cells` the whole of the cells whose centre lies
    inside or that are touched. Later means over the area are weighted by it.

    Examples
    --------
    >>> Subset(lat="35S..10N", lon="170E..160W", time="2001..")  # doctest: +SKIP
    """

    variable: tuple[str, ...] | None = parameter(
        "names or standard names to keep", example="NAME,..."
    )
    lat: LatitudeRange | None = parameter(
        "latitudes to keep, from south to north", example="35S..10N"
    )
    lon: LongitudeRange | None = parameter(
        "longitudes to keep, eastward", example="170E..160W"
    )
    at: Position | None = parameter(
        "the one grid cell that contains a position", example="64.1N,21.9W"
    )
    region: Regions | None = parameter(
        "countries, land, sea, or outlines in files to crop to and to mask outside",
        example="Norway,FILE#NAME",
    )
    cells: CellChoice = parameter(
        "how grid cells on the edge of a region are weighted",
        default=CellChoice.FRACTION,
    )
    time: Period | None = parameter(
        "times to keep, both ends included in full", example="1991..2020"
    )
    months: Months | None = parameter("months of the year to keep", example="nov..mar")
    season: Season | None = parameter(
        "a season to keep, by the initials of its months", example="DJF"
    )
    years: Years | None = parameter("years to keep", example="2010,2015..2018")
    when: TimesWhere | None = parameter(
        "times to keep by a series: 'FILE:NAME > 0.5', 'lowest 5 of FILE'",
        example="'lowest 5 of rain.csv'",
    )
    with_: OtherDataset | None = parameter(
        "the file of the series, where --when says '> 0.5' alone", example="FILE[:NAME]"
    )
    level: Levels | None = parameter(
        "levels to keep, with units or in those of the data", example="850hPa,500hPa"
    )
    choose: Choices | None = parameter(
        "values to keep along any other axis", example="pattern=1"
    )
    every: Every | None = parameter(
        "keep every n-th value along an axis", example="time=12"
    )
    utc_offset: UtcOffset | None = parameter(
        "by how much local time is ahead of UTC, for days of a place", example="+09:00"
    )

    def check(self) -> None:
        if self.at is not None and (self.lat is not None or self.lon is not None):
            raise UsageError(
                "--at names one cell, --lat and --lon a region; give one or the other"
            )
        if self.when is not None and self.when.formula is not None:
            raise UsageError(
                f"--when '{self.when}': times are chosen by a series in a file, such as "
                "'oni.csv:oni > 0.5'; for the data themselves, summarise them to a file first"
            )
        if self.with_ is not None and self.when is None:
            raise UsageError(
                "--with names a series; --when says which of its times to keep"
            )

    def combines_values(self) -> bool:
        """See `Operation.combines_values`."""
        return False

    def apply(self, dataset: Dataset) -> Dataset:
        """Return the part of a dataset that was asked for.

        Raises
        ------
        DataError
            If a variable, level or axis is not there, or nothing is left.
        """
        if self.variable is not None:
            dataset = dataset.restrict(dataset.find(name) for name in self.variable)
        dataset = in_local_time(dataset, self.utc_offset)
        dataset = self._in_space(dataset)
        if self.region is not None:
            dataset = cut_regions(dataset, self.region, self.cells)
        if any(
            wish is not None
            for wish in (self.time, self.months, self.season, self.years)
        ):
            axis = dataset.need_time()
            picks = time_indices(axis, self.time, self.months, self.season, self.years)
            dataset = take_steps(dataset, picks)
        if self.when is not None:
            flags = self.when.series(dataset, self.with_)
            if not (flags == 1).any():
                raise DataError(
                    f"--when '{self.when}': no time of {dataset.label} is chosen"
                )
            dataset = take_steps(dataset, np.flatnonzero(flags == 1))
        if self.level is not None:
            coordinate = dataset.need(Role.LEVEL)
            indices = level_indices(coordinate, self.level)
            if coordinate.dimension is not None:
                dataset = take(dataset, {coordinate.dimension: indices})
        if self.choose is not None:
            for name, wanted in self.choose.by_axis.items():
                dimension = _dimension(dataset, name, "--choose")
                picks = value_indices(dataset, dimension, wanted)
                dataset = take(dataset, {dimension: picks})
        return self._thin(dataset)

    def _in_space(self, dataset: Dataset) -> Dataset:
        if self.lon is not None:
            _warn_of_the_long_way(self.lon)
        if dataset.axes.curvilinear or dataset.axes.sites:
            if self.at is not None:
                return curvilinear.at(dataset, self.at)
            chosen = self.lat is not None or self.lon is not None
            return (
                curvilinear.within(dataset, self.lat, self.lon) if chosen else dataset
            )
        if self.at is not None:
            row, column = position_indices(dataset, self.at)
            dataset = take_cells(dataset, Role.LATITUDE, np.array([row]))
            return take_cells(dataset, Role.LONGITUDE, np.array([column]))
        if self.lat is not None:
            latitude = dataset.need(Role.LATITUDE)
            dataset = take_cells(
                dataset, Role.LATITUDE, latitude_indices(latitude, self.lat)
            )
        if self.lon is not None:
            longitude = dataset.need(Role.LONGITUDE)
            indices, turns = longitude_indices(longitude, self.lon)
            dataset = turn_longitudes(
                take_cells(dataset, Role.LONGITUDE, indices), turns
            )
        return dataset

    def _thin(self, dataset: Dataset) -> Dataset:
        picks = {}
        for name, step in self.every.steps if self.every is not None else ():
            dimension = _dimension(dataset, name, "--every")
            picks[dimension] = np.arange(0, dataset.lengths[dimension], step)
        time = dataset.coordinate(Role.TIME)
        if time is not None and time.dimension in picks:
            dataset = take_steps(dataset, picks.pop(time.dimension))
        return take(dataset, picks) if picks else dataset


def _warn_of_the_long_way(lon: LongitudeRange) -> None:
    """Say how far a range reaches whose ends were perhaps exchanged."""
    if lon.west is None or lon.east is None or not lon.east < lon.west:
        return
    width = (lon.east - lon.west) % 360
    if width > 180:
        warn(
            f"--lon {lon} runs eastward over {width:g} degrees; the other way round it is "
            f"--lon {format_longitude(lon.east)}..{format_longitude(lon.west)}"
        )


def _dimension(dataset: Dataset, name: str, option: str) -> str:
    """Return the dimension that goes by a name, which may be that of its role."""
    if name in dataset.lengths:
        return name
    role = _SHORT.get(name.lower()) or next(
        (role for role in Role if role == name.lower()), None
    )
    coordinate = dataset.coordinate(role) if role else None
    if coordinate is None or coordinate.dimension is None:
        raise DataError(
            f"{option} {name}: no such axis. {nearest_names(name, dataset.lengths)}"
        )
    return coordinate.dimension
