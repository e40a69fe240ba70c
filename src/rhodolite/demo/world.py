"""All files of the made-up world."""

from __future__ import annotations

from collections.abc import Iterator

from rhodolite.demo.analyses import garnet, nordic, pressure
from rhodolite.demo.models import models
from rhodolite.demo.regional import hourly, rotated
from rhodolite.formats.layout import Compression, Layout
from rhodolite.model.dataset import Dataset

_SMALL = Layout(compression=Compression.SMALL)
_OLD = Layout(variant="netcdf3-classic")


def datasets() -> Iterator[tuple[str, Dataset, Layout]]:
    """Yield the name of each file of the demo, what goes into it, and how it lies on disk."""
    yield "garnet_monthly_1981-2020.nc", garnet(), _SMALL
    for name, dataset in nordic():
        yield name, dataset, _SMALL
    yield "pressure_monthly.nc", pressure(), _SMALL
    for name, dataset in models():
        yield name, dataset, _SMALL
    yield "rotated_monthly.nc", rotated(), _SMALL
    yield "rain_hourly.nc", hourly(), _OLD
