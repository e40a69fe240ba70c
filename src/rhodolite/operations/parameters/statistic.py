"""Statistics as people name them, and the kernels that compute them."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Self

from rhodolite.arrays import Array, Unpacking
from rhodolite.errors import nearest_names
from rhodolite.kernels.grouped_statistics import Exceedance, Statistic
from rhodolite.kernels.order_statistics import longest_run, percentile
from rhodolite.model.typed_value import TypedValue
from rhodolite.model.units.conversion import of_differences
from rhodolite.model.units.udunits import square_units
from rhodolite.model.variable import UNITS_OF_ONE, Variable
from rhodolite.operations.parameters.named_statistics import STATISTICS, ResultUnits
from rhodolite.operations.parameters.threshold import Threshold
from rhodolite.plain_text import write_number

_THRESHOLDS = ("count-above", "count-below", "longest-run-above", "longest-run-below")
_PERCENTILE = re.compile(r"p(100|\d{1,2}(?:\.\d+)?)")
_PERCENTILES = (
    "Hyndman and Fan 1996, The American Statistician 50, 361-365, definition 7"
)


@dataclass(frozen=True)
class Measure(TypedValue):
    """A statistic: `mean`, `sum`, `min`, `max`, `range`, `std`, `variance`, `median`, `count`,
    `p90`,
    `count-above 1mm/day`, `longest-run-below 0degC`.

    Attributes
    ----------
    kind : str
    threshold : float, optional
    units : str
        Of the threshold; those of the data where it has none.
    dtype : {"f4", "f8"}
        Precision of the data, in which they are compared with the threshold.
    """

    kind: str
    threshold: float | None = None
    units: str = ""
    dtype: str = "f8"

    second_words = _THRESHOLDS
    """Kinds that are followed by another word."""

    @classmethod
    def parse(cls, text: str) -> Self:
        kind, _, rest = text.strip().partition(" ")
        if kind in _THRESHOLDS:
            try:
                threshold = Threshold.parse(rest)
            except ValueError:
                raise ValueError(
                    f"'{text}' needs a threshold; write '{kind} 1mm/day'"
                ) from None
            return cls(kind, threshold.number, threshold.units)
        if rest or (kind not in STATISTICS and not _PERCENTILE.fullmatch(kind)):
            offered = [
                *STATISTICS,
                "p90 (any percentile)",
                *(f"{kind} 1mm/day" for kind in _THRESHOLDS),
            ]
            raise ValueError(f"'{text}' is not offered. {nearest_names(text, offered)}")
        return cls(kind)

    def __str__(self) -> str:
        if self.threshold is None:
            return self.kind
        return f"{self.kind} {write_number(self.threshold)}{self.units}"

    @property
    def share(self) -> float | None:
        """The share of values below a percentile; None for other statistics."""
        if self.kind == "median":
            return 0.5
        match = _PERCENTILE.fullmatch(self.kind)
        return float(match.group(1)) / 100 if match else None

    @property
    def merges(self) -> bool:
        """Whether parts of the values can be taken in one after another."""
        return self.share is None and not self.is_run

    @property
    def is_run(self) -> bool:
        """Whether it is a number of values in a row."""
        return self.kind.startswith("longest")

    @property
    def adds(self) -> bool:
        """Whether a value that is missing makes the result wrong, as it does sums."""
        return self.kind == "sum" or self.threshold is not None

    @property
    def counts(self) -> bool:
        """Whether the result is a number of values."""
        return self.kind == "count" or self.threshold is not None

    @property
    def method(self) -> str | None:
        """The word for it in `cell_methods` (CF appendix E); None where there is none."""
        known = STATISTICS.get(self.kind)
        return None if known is None else known.method

    @property
    def units_of_result(self) -> ResultUnits:
        """Of which units the result is."""
        if self.threshold is not None:
            return ResultUnits.NUMBERS
        known = STATISTICS.get(self.kind)
        return ResultUnits.VALUES if known is None else known.units

    @property
    def keeps_quantity(self) -> bool:
        """Whether the result is still of the quantity that a standard name names."""
        return self.units_of_result in (ResultUnits.VALUES, ResultUnits.DIFFERENCES)

    def rescaled(self, variable: Variable) -> tuple[float, str | None]:
        """Return what a statistic of a variable's values is multiplied by, and the units that it
        then has.

        Parameters
        ----------
        variable : Variable
        """
        kind = self.units_of_result
        if kind is ResultUnits.VALUES:
            return 1.0, variable.units
        if kind is ResultUnits.NUMBERS:
            return 1.0, UNITS_OF_ONE
        factor, units = of_differences(variable.units)
        if kind is ResultUnits.DIFFERENCES:
            return factor, units
        return factor**2, None if units is None else square_units(units)

    def words(self, quantity: str) -> str:
        """Return the statistic of a quantity in people's words."""
        if self.threshold is not None:
            what = "longest run of values" if self.is_run else "number of values"
            return (
                f"{what} of {quantity} {self.kind.rpartition('-')[2]} {self.threshold:g} "
                f"{self.units}"
            ).strip()
        if self.share is not None and self.kind != "median":
            return f"{_ordinal(self.kind[1:])} percentile of {quantity}"
        return join_words(STATISTICS[self.kind].words, quantity)

    def within(self, variable: Variable) -> Measure:
        """Return the measure with its threshold in the units of a variable.

        Raises
        ------
        DataError
            If the threshold's units cannot be converted to them.
        """
        units = variable.units or self.units
        if self.threshold is None:
            return Measure(self.kind, None, units, variable.precision)
        threshold = Threshold(self.threshold, self.units).within(
            variable,
            f"--statistic {self}",
            "; write a threshold in those, or choose variables first: subset --variable NAME then "
            "aggregate",
        )
        return Measure(self.kind, threshold, units, variable.precision)

    def statistic(self, *, weighted: bool) -> tuple[Statistic, str]:
        """Return the kernel of a measure that merges, and the name of its result."""
        if self.threshold is not None:
            return Exceedance(
                threshold=self.threshold,
                below=self.kind.endswith("below"),
                dtype=self.dtype,
            ), "value"
        known = STATISTICS[self.kind]
        assert known.kernel is not None
        return known.kernel(weighted), known.result

    def of_all(
        self, values: Array, unpack: Unpacking | None = None, *, whole: bool = False
    ) -> Array:
        """Return a measure that does not merge, for values of shape (n, *cells), or for stored
        numbers in the order of the values that are made of them; `whole` says that it is known that
        none is missing."""
        if self.share is not None:
            return percentile(values, self.share, unpack, whole=whole)
        assert self.threshold is not None
        if unpack is not None:
            values = unpack(values)
        return longest_run(
            values, self.threshold, self.kind.endswith("below"), self.dtype
        )


@dataclass(frozen=True)
class Measures(TypedValue):
    """Several statistics at once: `mean,max,p90`."""

    measures: tuple[Measure, ...]

    listed = True
    second_words = _THRESHOLDS

    @classmethod
    def parse(cls, text: str) -> Self:
        measures = tuple(Measure.parse(part) for part in text.split(","))
        if len(set(measures)) < len(measures):
            raise ValueError(f"'{text}' names a statistic twice")
        return cls(measures)

    def __str__(self) -> str:
        return ",".join(str(measure) for measure in self.measures)

    @property
    def sources(self) -> tuple[str, ...]:
        """Where the formulas of those come from that have one."""
        return (
            (_PERCENTILES,) if any(m.share is not None for m in self.measures) else ()
        )

    @property
    def first(self) -> Measure:
        """The only one, or the first of several."""
        return self.measures[0]


MEAN = Measures((Measure("mean"),))
OFFERED = (
    "one or more of mean, sum, min, max, range, std, variance, median, count, p90, or "
    "count-above, count-below, longest-run-above or longest-run-below and a threshold, such as "
    "1mm/day"
)
"""What there is for the steps of a period, as help says it."""


def join_words(before: str, quantity: str) -> str:
    """Return words before a quantity, without a word twice: `total` and `Total precipitation` is
    total precipitation.

    Parameters
    ----------
    before : str
        Words before the quantity.
    quantity : str
        Name of the quantity in words.

    Examples
    --------
    >>> join_words("total", "Total precipitation"), join_words("mean", "SST")
    ('total precipitation', 'mean SST')
    """
    lowered = (
        quantity[:1].lower() + quantity[1:] if quantity[1:2].islower() else quantity
    )
    last = before.split()[-1].lower() if before else ""
    if last and lowered.lower().startswith(f"{last} "):
        return f"{before} {lowered.split(maxsplit=1)[1]}"
    return f"{before} {lowered}".strip()


def _ordinal(number: str) -> str:
    endings = {"1": "st", "2": "nd", "3": "rd"}
    plain = number.lstrip("0") or "0"
    ending = (
        "th"
        if plain[-2:] in ("11", "12", "13") or "." in plain
        else endings.get(plain[-1], "th")
    )
    return f"{plain}{ending}"
