"""The statistics that have a name of one word: what each is called, of which units it is, and which
kernel computes it. To add one is to add a row here, and its kernel."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import Enum, auto

from rhodolite.kernels.grouped_statistics import (
    Count,
    Highest,
    Lowest,
    Mean,
    Range,
    Spread,
    Statistic,
    Total,
)


class ResultUnits(Enum):
    """Of which units a statistic is."""

    VALUES = auto()
    DIFFERENCES = auto()
    """Those of differences of values: kelvins for temperatures with an offset."""
    SQUARES = auto()
    """The square of those of differences."""
    NUMBERS = auto()


@dataclass(frozen=True)
class NamedStatistic:
    """A statistic.

    Parameters
    ----------
    words : str
        That stand before the quantity.
    method : str or None
        The word for it in `cell_methods` (CF appendix E).
    units : ResultUnits
    kernel : callable, optional
        Gives the kernel, for weighted or plain values; none where all values are needed at once.
    result : str
        The name of its result among those of the kernel.
    """

    words: str
    method: str | None
    units: ResultUnits = ResultUnits.VALUES
    kernel: Callable[[bool], Statistic] | None = None
    result: str = "value"


_STD, _SQUARE = ResultUnits.DIFFERENCES, ResultUnits.SQUARES
STATISTICS = {
    "mean": NamedStatistic("mean", "mean", kernel=lambda _: Mean()),
    "sum": NamedStatistic("total", "sum", kernel=Total),
    "min": NamedStatistic(
        "minimum", "minimum", kernel=lambda _: Lowest(), result="low"
    ),
    "max": NamedStatistic(
        "maximum", "maximum", kernel=lambda _: Highest(), result="high"
    ),
    "range": NamedStatistic("range of", "range", _STD, lambda _: Range(), "range"),
    "std": NamedStatistic(
        "standard deviation of",
        "standard_deviation",
        _STD,
        lambda _: Spread(),
        "deviation",
    ),
    "variance": NamedStatistic(
        "variance of", "variance", _SQUARE, lambda _: Spread(), "variance"
    ),
    "median": NamedStatistic("median", "median"),
    "count": NamedStatistic(
        "number of values of", None, ResultUnits.NUMBERS, lambda _: Count()
    ),
}
"""In the order in which they are offered."""
MERGING = tuple(name for name, known in STATISTICS.items() if known.kernel is not None)
"""Those of which parts of the values can be taken in one after another."""
