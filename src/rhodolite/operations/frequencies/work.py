"""What is made of whole series: their spectrum with the noise behind it, or their harmonics."""

from __future__ import annotations

from abc import abstractmethod
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, replace
from enum import Enum, StrEnum, auto
from typing import Any, Self

import numpy as np
from numpy.typing import NDArray

from rhodolite.arrays import Array, InMemory, SeriesKernel
from rhodolite.errors import warn
from rhodolite.kernels.spectra import (
    Spectrum,
    fit_harmonics,
    limit_factor,
    multitaper,
    periodogram,
    red_noise,
    welch,
)
from rhodolite.model.time.time_axis import TimeAxis
from rhodolite.model.variable import UNITS_OF_ONE, Variable

FREQUENCY, HARMONIC = "frequency", "harmonic"


class Estimate(StrEnum):
    """How a spectrum is estimated."""

    PERIODOGRAM = "periodogram"
    WELCH = "welch"
    MULTITAPER = "multitaper"


class Kind(Enum):
    """Of which units a result is."""

    DENSITY = auto()
    VALUE = auto()
    PERCENT = auto()
    DAY = auto()


class SeriesResults(SeriesKernel):
    """Base class: results along an axis of their own.

    Attributes
    ----------
    dimension : str
        Of the results.
    """

    dimension: str

    @property
    @abstractmethod
    def numbers(self) -> Array:
        """The values of the axis of the results."""

    @property
    @abstractmethod
    def titles(self) -> Mapping[str, tuple[str, Kind]]:
        """For each result its words, and of which units it is."""

    @abstractmethod
    def coordinate(self) -> Variable:
        """Return the axis of the results."""

    @abstractmethod
    def along(self, axis: int, label: str) -> Self:
        """Return the same for a variable of some name, with time in some place."""

    def outputs(self) -> Mapping[str, tuple[tuple[int, ...], np.dtype[Any]]]:
        return dict.fromkeys(self.titles, ((self.numbers.size,), np.dtype("f8")))


@dataclass
class OfFrequencies(SeriesResults):
    """The spectrum of each cell, the noise behind it, and its limit.

    Attributes
    ----------
    order : ndarray of int
        The steps in the order of time.
    rate : float
        Steps in a year.
    method : Estimate
    segment, tapers : int
        Steps of a segment, and the number of tapers.
    confidence : float
        Share of noise below the limit.
    """

    order: NDArray[np.intp]
    rate: float
    method: Estimate
    segment: int
    tapers: int
    confidence: float
    axis: int = 0
    label: str = ""
    dimension: str = FREQUENCY

    def along(self, axis: int, label: str) -> Self:
        return replace(self, axis=axis, label=label)

    @property
    def numbers(self) -> Array:
        length = self.segment if self.method is Estimate.WELCH else self.order.size
        return np.asarray(np.fft.rfftfreq(length, 1 / self.rate)[1:])

    @property
    def titles(self) -> Mapping[str, tuple[str, Kind]]:
        share = f"{100 * self.confidence:.3g} %"
        return {
            "power": ("spectral density", Kind.DENSITY),
            "noise": ("spectral density of red noise like that", Kind.DENSITY),
            "limit": (f"limit ({share}) of red noise like that", Kind.DENSITY),
        }

    def coordinate(self) -> Variable:
        about = {"long_name": "frequency", "units": "year-1"}
        return Variable(FREQUENCY, (FREQUENCY,), InMemory(self.numbers), about)

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        values = block[self.order].astype(np.float64)
        gaps = np.isnan(values).any(axis=0)
        filled = np.where(gaps, 0.0, values)
        spectrum = self._spectrum(filled)
        noise = red_noise(filled, spectrum, self.rate)
        factor = limit_factor(spectrum.freedom, self.confidence)
        results = {"power": spectrum.power, "noise": noise, "limit": noise * factor}
        lost = gaps & ~np.isnan(values).all(axis=0)
        counts = Counter(lost=int(lost.sum()), of=lost.size)
        return {n: np.where(gaps, np.nan, part) for n, part in results.items()}, counts

    def _spectrum(self, values: Array) -> Spectrum:
        if self.method is Estimate.WELCH:
            return welch(values, self.rate, self.segment)
        if self.method is Estimate.MULTITAPER:
            return multitaper(values, self.rate, self.tapers)
        return periodogram(values, self.rate)

    def report(self, counts: Counter[str]) -> None:
        if counts["lost"]:
            warn(
                f"{self.label}: {counts['lost']:,} of {counts['of']:,} cells have no spectrum, "
                "since values of theirs are missing"
            )


@dataclass
class OfYear(SeriesResults):
    """The harmonics of the year at each cell.

    Attributes
    ----------
    fractions : ndarray of float64
        When in the year each step is, from 0 to 1.
    count : int
        How many harmonics.
    days : float
        Of a year.
    """

    fractions: Array
    count: int
    days: float
    axis: int = 0
    label: str = ""
    dimension: str = HARMONIC

    @classmethod
    def of(cls, axis: TimeAxis, count: int, days: float) -> Self:
        """Return the harmonics of the year of a time axis."""
        return cls(axis.decimal_years % 1.0, count, days)

    def along(self, axis: int, label: str) -> Self:
        return replace(self, axis=axis, label=label)

    @property
    def numbers(self) -> Array:
        return np.arange(1, self.count + 1, dtype=np.float64)

    @property
    def titles(self) -> Mapping[str, tuple[str, Kind]]:
        return {
            "amplitude": ("amplitude of the harmonic of the year", Kind.VALUE),
            "day": ("first day of the year with the maximum of the harmonic", Kind.DAY),
            "share": ("share of the variance of the harmonic", Kind.PERCENT),
        }

    def coordinate(self) -> Variable:
        about = {"long_name": "harmonic, cycles in a year", "units": UNITS_OF_ONE}
        return Variable(HARMONIC, (HARMONIC,), InMemory(self.numbers), about)

    def __call__(self, block: Array) -> tuple[dict[str, Array], Counter[str]]:
        values = block.astype(np.float64)
        parts = fit_harmonics(values, self.fractions, self.count)
        lost = np.isnan(parts.amplitude[0]) & ~np.isnan(values).all(axis=0)
        results = {
            "amplitude": parts.amplitude,
            "day": parts.place * self.days,
            "share": parts.share,
        }
        return results, Counter(lost=int(lost.sum()), of=lost.size)

    def report(self, counts: Counter[str]) -> None:
        if counts["lost"]:
            warn(
                f"{self.label}: {counts['lost']:,} of {counts['of']:,} cells have no harmonics, "
                "since too few values, or too small a part of the year, are there"
            )
