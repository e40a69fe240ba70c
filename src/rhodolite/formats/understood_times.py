"""Times of a file as an axis, however they are written: what is done before files are joined, and
to each file that is read."""

from __future__ import annotations

from rhodolite.formats.counted_times import count_days
from rhodolite.formats.figures_of_dates import read_figures
from rhodolite.formats.normalise_axes import (
    drop_missing_times,
    read_text_dates,
    settle_calendar,
)
from rhodolite.model.dataset import Dataset


def understand_times(dataset: Dataset) -> Dataset:
    """Return a dataset whose words, figures and months are times that are counted from a date, in a
    known calendar, with none missing."""
    for step in (
        read_text_dates,
        read_figures,
        settle_calendar,
        drop_missing_times,
        count_days,
    ):
        dataset = step(dataset)
    return dataset
