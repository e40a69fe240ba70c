"""Signatures of all verbs. Written by `python tools/make_stub.py`; do not edit."""

from collections.abc import Sequence
from datetime import date
from os import PathLike
from typing import Any, Literal, Protocol, Self

from rhodolite.model.dataset import Dataset

class HasOutline(Protocol):
    @property
    def __geo_interface__(self) -> Any: ...

class HasRows(Protocol):
    def to_csv(self, *args: Any, **settings: Any) -> Any: ...

def find_method(name: str) -> Any: ...

class Verbs:
    def subset(
        self,
        *,
        variable: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        lat: str | float | date | range | slice | tuple[Any, Any] | None = None,
        lon: str | float | date | range | slice | tuple[Any, Any] | None = None,
        at: str | tuple[float, float] | None = None,
        region: str | PathLike[str] | Sequence[str] | HasOutline | None = None,
        cells: Literal["fraction", "centre", "touched"] = "fraction",
        time: str | float | date | range | slice | tuple[Any, Any] | None = None,
        months: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        season: str | float | None = None,
        years: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        when: str | PathLike[str] | None = None,
        with_: str | PathLike[str] | Dataset | None = None,
        level: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        choose: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        every: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        utc_offset: str | float | None = None,
    ) -> Self: ...
    def extract(
        self,
        *,
        points: str | PathLike[str] | HasRows | None = None,
        lat: str | float | date | range | slice | tuple[Any, Any] | None = None,
        lon: str | float | date | range | slice | tuple[Any, Any] | None = None,
        method: Literal["nearest", "bilinear"] = "nearest",
        search: int | None = None,
        layout: Literal["long", "wide"] = "long",
    ) -> Self: ...
    def annotate(
        self,
        *,
        set: str | Sequence[str] | None = None,
        remove: str | Sequence[str] | None = None,
        rename: str | Sequence[str] | None = None,
    ) -> Self: ...
    def convert(
        self,
        *,
        units: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        longitude: Literal["0..360", "-180..180"] | None = None,
        latitude: Literal["ascending", "descending"] | None = None,
        amounts: Literal["since-start", "of-step"] | None = None,
        utc_offset: str | float | None = None,
        stamp: Literal["start", "middle", "end"] | None = None,
        pack: Literal["keep", "int16", "int8"] | None = None,
    ) -> Self: ...
    def calc(
        self,
        *,
        formula: str | float | None = None,
        name: str | None = None,
        units: str | None = None,
        keep: bool = False,
    ) -> Self: ...
    def aggregate(
        self,
        *,
        to: str | float | None = None,
        statistic: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float] = "mean",
        season: str | float | None = None,
        year_start: str | float | None = None,
        utc_offset: str | float | None = None,
        stamp: Literal["start", "middle", "end"] | None = None,
        min_coverage: float | None = None,
        coverage: bool = False,
    ) -> Self: ...
    def accumulate(
        self,
        *,
        reset: Literal["year", "season", "month", "never"] = "year",
        start: str | float | None = None,
        gaps: Literal["stop", "skip"] = "stop",
        leap_day: Literal["keep", "drop"] = "keep",
        stamp: Literal["start", "middle", "end"] | None = None,
    ) -> Self: ...
    def window(
        self,
        *,
        width: str | float | None = None,
        statistic: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float] = "mean",
        align: Literal["centre", "start", "end"] = "centre",
        longer_than: str | float | None = None,
        shorter_than: str | float | None = None,
        min_coverage: float = 1.0,
    ) -> Self: ...
    def climatology(
        self,
        *,
        base: str | float | date | range | slice | tuple[Any, Any] | None = None,
        cycle: str | float = "month",
        statistic: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float] = "mean",
        pool: int = 1,
        smooth: str | float | None = None,
        min_coverage: float = 0.8,
        min_years: int = 3,
        utc_offset: str | float | None = None,
    ) -> Self: ...
    def anomaly(
        self,
        *,
        base: str | float | date | range | slice | tuple[Any, Any] | None = None,
        cycle: str | float = "month",
        kind: Literal["difference", "percent", "standardised"] = "difference",
        smooth: str | float | None = None,
        climatology: str | PathLike[str] | Dataset | None = None,
        min_coverage: float = 0.8,
        min_years: int = 3,
        utc_offset: str | float | None = None,
    ) -> Self: ...
    def index(
        self,
        *,
        kind: Literal[
            "rainfall-anomaly", "standardised", "percentile", "rank"
        ] = "rainfall-anomaly",
        base: str | float | date | range | slice | tuple[Any, Any] | None = None,
        extremes: str | float = "10",
        months: int = 1,
        distribution: Literal["gamma", "normal", "log-logistic"] | None = None,
        classes: bool = False,
        min_coverage: float = 0.8,
    ) -> Self: ...
    def indicator(
        self,
        *,
        kind: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        to: str | float = "year",
        season: str | float | None = None,
        year_start: str | float | None = None,
        base: str | float | date | range | slice | tuple[Any, Any] | None = None,
        missing_days: int | None = None,
        lowest: str | None = None,
        highest: str | None = None,
        mean: str | None = None,
        rain: str | None = None,
    ) -> Self: ...
    def extremes(
        self,
        *,
        periods: str | float = "10,50,100",
        tail: Literal["high", "low"] = "high",
        method: Literal["l-moments", "likelihood"] = "l-moments",
        trend: bool = False,
        above: str | float | None = None,
        apart: int = 3,
        confidence: float = 0.95,
        samples: int = 500,
        seed: int = 0,
        min_values: int = 20,
    ) -> Self: ...
    def trend(
        self,
        *,
        method: Literal["least-squares", "theil-sen"] = "least-squares",
        test: Literal["t", "mann-kendall", "seasonal-mann-kendall"] | None = None,
        serial_correlation: Literal["none", "ar1", "hamed-rao", "pre-whitening"]
        | None = None,
        order: int = 1,
        per: Literal["year", "decade", "century"] = "decade",
        alpha: float = 0.05,
        false_discovery: bool = False,
        min_values: int = 3,
    ) -> Self: ...
    def detrend(
        self, *, order: int = 1, keep_mean: bool = False, cycle: str | float = "none"
    ) -> Self: ...
    def correlate(
        self,
        *,
        with_: str | PathLike[str] | Dataset | None = None,
        lag: str | float = "0",
        method: Literal["pearson", "spearman"] = "pearson",
        detrend: bool = False,
        cycle: str | float = "none",
    ) -> Self: ...
    def composite(
        self,
        *,
        when: str | PathLike[str] | None = None,
        against: str | PathLike[str] | None = None,
        with_: str | PathLike[str] | Dataset | None = None,
        test: Literal["t", "permutation"] = "t",
        permutations: int = 999,
        seed: int = 0,
        alpha: float = 0.05,
        false_discovery: bool = False,
    ) -> Self: ...
    def patterns(
        self,
        *,
        count: int = 5,
        matrix: Literal["covariance", "correlation"] = "covariance",
        rotate: bool = False,
        with_: str | PathLike[str] | Dataset | None = None,
        min_coverage: float = 1.0,
    ) -> Self: ...
    def spectrum(
        self,
        *,
        method: Literal["periodogram", "welch", "multitaper"] = "periodogram",
        segment: int | None = None,
        tapers: int = 5,
        confidence: float = 0.95,
        harmonics: int = 0,
    ) -> Self: ...
    def adjust(
        self,
        *,
        to: str | PathLike[str] | Dataset | None = None,
        trained_on: str | PathLike[str] | Dataset | None = None,
        method: Literal[
            "mean",
            "mean-and-spread",
            "quantiles",
            "quantile-changes",
            "detrended-quantiles",
        ] = "quantile-changes",
        by: str | None = None,
        base: str | float | date | range | slice | tuple[Any, Any] | None = None,
        cycle: str | float = "month",
        pool: int = 1,
        fit: Literal["empirical", "gamma"] = "empirical",
        seed: int = 0,
        min_coverage: float = 0.8,
    ) -> Self: ...
    def summarise(
        self,
        *,
        over: Literal[
            "area", "lat", "lon", "level", "time", "ensemble", "site"
        ] = "area",
        statistic: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        region: str | PathLike[str] | Sequence[str] | HasOutline | None = None,
        cells: Literal["fraction", "centre", "touched"] = "fraction",
        latitude_bands: float | None = None,
        integral: bool = False,
        by: str | None = None,
        min_coverage: float | None = None,
    ) -> Self: ...
    def regrid(
        self,
        *,
        to: str | float | None = None,
        like: str | PathLike[str] | Dataset | None = None,
        method: Literal["conservative", "bilinear", "nearest"] = "conservative",
        order: int = 1,
        min_coverage: float | None = None,
        save_weights: str | None = None,
        weights: str | PathLike[str] | Dataset | None = None,
    ) -> Self: ...
    def relevel(
        self,
        *,
        to: str | float | None = None,
        method: Literal["log-pressure", "linear"] | None = None,
        extrapolate: bool = False,
        by: str | None = None,
        find: str | float | None = None,
    ) -> Self: ...
    def compare(
        self,
        *,
        with_: str | PathLike[str] | Dataset | None = None,
        kind: Literal[
            "difference", "ratio", "percent", "quantiles", "ensemble"
        ] = "difference",
    ) -> Self: ...
    def draw_map(
        self,
        *,
        variable: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        time: str | float | date | range | slice | tuple[Any, Any] | None = None,
        level: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        palette: str | None = None,
        limits: str | float | None = None,
        centre: float | None = None,
        projection: Literal[
            "equirectangular", "equal-area", "north-polar", "south-polar"
        ] = "equirectangular",
        title: str | None = None,
        size: str | float | None = None,
        mark: Literal["dots", "hatches", "none"] = "dots",
        mark_by: str | None = None,
        points: str | PathLike[str] | HasRows | None = None,
        region: str | PathLike[str] | Sequence[str] | HasOutline | None = None,
        axes: Any = None,
    ) -> Any: ...
    def draw_panels(
        self,
        *,
        variable: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        time: str | float | date | range | slice | tuple[Any, Any] | None = None,
        level: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        palette: str | None = None,
        limits: str | float | None = None,
        centre: float | None = None,
        title: str | None = None,
        size: str | float | None = None,
        by: Literal["step", "month", "season", "year", "level", "member"] = "step",
        years: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        axes: Any = None,
    ) -> Any: ...
    def draw_series(
        self,
        *,
        variable: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        time: str | float | date | range | slice | tuple[Any, Any] | None = None,
        level: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        at: str | tuple[float, float] | None = None,
        limits: str | float | None = None,
        title: str | None = None,
        size: str | float | None = None,
        bars: bool = False,
        smooth: int | None = None,
        without_cycle: bool = False,
        trend: bool = False,
        with_: str | PathLike[str] | Dataset | None = None,
        axes: Any = None,
    ) -> Any: ...
    def draw_years(
        self,
        *,
        variable: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        time: str | float | date | range | slice | tuple[Any, Any] | None = None,
        level: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        at: str | tuple[float, float] | None = None,
        limits: str | float | None = None,
        title: str | None = None,
        size: str | float | None = None,
        start: str | float | None = None,
        emphasise: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        base: str | float | date | range | slice | tuple[Any, Any] | None = None,
        leap_day: Literal["keep", "drop"] = "drop",
        axes: Any = None,
    ) -> Any: ...
    def draw_profile(
        self,
        *,
        variable: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        time: str | float | date | range | slice | tuple[Any, Any] | None = None,
        level: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        at: str | tuple[float, float] | None = None,
        limits: str | float | None = None,
        title: str | None = None,
        size: str | float | None = None,
        against: Literal["level", "lat", "lon"] | None = None,
        by: Literal["level", "time", "none"] | None = None,
        log: bool = False,
        axes: Any = None,
    ) -> Any: ...
    def draw_curve(
        self,
        *,
        variable: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        time: str | float | date | range | slice | tuple[Any, Any] | None = None,
        level: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        at: str | tuple[float, float] | None = None,
        limits: str | float | None = None,
        title: str | None = None,
        size: str | float | None = None,
        log: bool = False,
        linear: bool = False,
        axes: Any = None,
    ) -> Any: ...
    def draw_section(
        self,
        *,
        variable: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        time: str | float | date | range | slice | tuple[Any, Any] | None = None,
        level: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        palette: str | None = None,
        limits: str | float | None = None,
        centre: float | None = None,
        title: str | None = None,
        size: str | float | None = None,
        plane: Literal["lat-level", "lon-level", "time-level", "time-lat", "lon-time"]
        | None = None,
        log: bool = False,
        axes: Any = None,
    ) -> Any: ...
    def draw_animation(
        self,
        *,
        variable: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        time: str | float | date | range | slice | tuple[Any, Any] | None = None,
        level: str
        | float
        | range
        | slice
        | Sequence[str]
        | Sequence[float]
        | None = None,
        palette: str | None = None,
        limits: str | float | None = None,
        centre: float | None = None,
        projection: Literal[
            "equirectangular", "equal-area", "north-polar", "south-polar"
        ] = "equirectangular",
        title: str | None = None,
        size: str | float | None = None,
        every: int = 1,
        rate: int = 4,
        axes: Any = None,
    ) -> Any: ...
