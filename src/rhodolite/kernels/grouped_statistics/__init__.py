"""Statistics of groups of values along the first axis, from parts that can be merged."""

from rhodolite.kernels.grouped_statistics.base import Gathered, Statistic
from rhodolite.kernels.grouped_statistics.extremes import Highest, Lowest, Range
from rhodolite.kernels.grouped_statistics.spread import Spread
from rhodolite.kernels.grouped_statistics.sums import Count, Exceedance, Mean, Total
from rhodolite.kernels.grouped_statistics.tails import Tail

__all__ = [
    "Count",
    "Exceedance",
    "Gathered",
    "Highest",
    "Lowest",
    "Mean",
    "Range",
    "Spread",
    "Statistic",
    "Tail",
    "Total",
]
