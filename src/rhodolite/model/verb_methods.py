"""Every verb as a method of a dataset. Written by `python tools/make_methods.py`; do not edit."""

from __future__ import annotations

from collections.abc import Sequence
from importlib import import_module
from os import PathLike
from typing import TYPE_CHECKING, Any, Literal, cast

if TYPE_CHECKING:
    from rhodolite.model.dataset import Dataset


class VerbMethods:
    """The verbs, as methods that return a new dataset or a figure."""

    def _apply(self, verb: str, settings: dict[str, Any]) -> Dataset:
        # Found by name, since operations lie above the model.
        step = import_module("rhodolite.operations").operation(verb)
        return cast("Dataset", step(**settings)(self))

    def _draw(self, kind: str, axes: Any, settings: dict[str, Any]) -> Any:
        step = import_module("rhodolite.drawing").drawing(kind)
        return step(**settings)(self, axes=axes)

    def subset(
        self,
        *,
        variable: str | float | Sequence[str] | Sequence[float] | None = None,
        lat: str | float | None = None,
        lon: str | float | None = None,
        at: str | float | None = None,
        region: str | Sequence[str] | None = None,
        cells: Literal["fraction", "centre", "touched"] = "fraction",
        time: str | float | None = None,
        months: str | float | Sequence[str] | Sequence[float] | None = None,
        season: str | float | None = None,
        years: str | float | Sequence[str] | Sequence[float] | None = None,
        level: str | float | Sequence[str] | Sequence[float] | None = None,
        every: str | float | Sequence[str] | Sequence[float] | None = None,
    ) -> Dataset:
        """Variables, region, times and levels of a dataset.

        Keeps every grid cell whose centre lies within the closed ranges given. Longitudes are
        compared modulo 360 and run eastward, so 170E..160W crosses the dateline and comes out as
        one contiguous block, counted from the western end as typed. A single latitude or longitude
        selects the row or column of cells that contains it. On grids with two-dimensional latitude
        and longitude the smallest block that contains the selection is kept, and its cells outside
        the ranges become missing; of sites, those within the ranges are kept, or the one nearest to
        a position.

        With a season, years are those in which the season ends: DJF of 2014 begins in December
        2013. Values are not changed and nothing is averaged. With a region, the cells that it
        touches are kept, and the variable `covered_area` holds the area with which each is
        weighted: its covered part, or with `--cells` the whole of the cells whose centre lies
        inside or that are touched. Later means over the area are weighted by it.

        Parameters
        ----------
        variable
            Names or standard names to keep, such as ``"NAME,..."``.
        lat
            Latitudes to keep, from south to north, such as ``"35S..10N"``.
        lon
            Longitudes to keep, eastward, such as ``"170E..160W"``.
        at
            The one grid cell that contains a position, such as ``"64.1N,21.9W"``.
        region
            Countries, land, sea, or outlines in files to crop to and to mask outside, such
            as ``"Norway,FILE#NAME"``.
        cells
            How grid cells on the edge of a region are weighted.
        time
            Times to keep, both ends included in full, such as ``"1991..2020"``.
        months
            Months of the year to keep, such as ``"nov..mar"``.
        season
            A season to keep, by the initials of its months, such as ``"DJF"``.
        years
            Years to keep, such as ``"2010,2015..2018"``.
        level
            Levels to keep, with units or in those of the data, such as ``"850hPa,500hPa"``.
        every
            Keep every n-th value along an axis, such as ``"time=12"``.
        """
        return self._apply(
            "subset",
            dict(
                variable=variable,
                lat=lat,
                lon=lon,
                at=at,
                region=region,
                cells=cells,
                time=time,
                months=months,
                season=season,
                years=years,
                level=level,
                every=every,
            ),
        )

    def extract(
        self,
        *,
        points: str | PathLike[str] | None = None,
        lat: str | float | None = None,
        lon: str | float | None = None,
        method: Literal["nearest", "bilinear"] = "nearest",
        search: int | None = None,
        layout: Literal["long", "wide"] = "long",
    ) -> Dataset:
        """Series at the sites of a table, or of every cell of a box.

        The table needs a header, and columns of latitude and longitude under any usual name; all
        its other columns are kept. A site takes the value of the cell with the nearest centre, or
        is interpolated between the four nearest centres; the distance to the nearest centre is
        written as well. Sites outside the grid, and sites whose cell has no data, are listed with
        their lines. A .csv output has one row per site and time, or with `--layout wide` one row
        per site and one column per time; a .nc output holds time series as defined by CF.

        Parameters
        ----------
        points
            A table of sites, such as ``"SITES.csv"``.
        lat
            Every cell between latitudes, in place of sites, such as ``"60N..62N"``.
        lon
            Every cell between longitudes, in place of sites, such as ``"8E..10E"``.
        method
            How the value at a site is computed.
        search
            Where the cell of a site has no data, take the nearest with data up to N cells
            away, such as ``"2"``.
        layout
            Layout of a table.
        """
        return self._apply(
            "extract",
            dict(points=points, lat=lat, lon=lon, method=method, search=search, layout=layout),
        )

    def annotate(
        self,
        *,
        set: str | Sequence[str] | None = None,
        remove: str | Sequence[str] | None = None,
        rename: str | Sequence[str] | None = None,
    ) -> Dataset:
        """Names and attributes of variables, dimensions and the dataset.

        Each option can be given several times. Names are changed first, then attributes are
        removed, then set, so that settings use the new names. References to a renamed variable
        follow it. An attribute is text, unless it replaces a number. Attributes that describe how
        numbers are stored (such as `scale_factor`) cannot be set, since that would change the data.

        Parameters
        ----------
        set
            Set an attribute, such as ``"VARIABLE:ATTRIBUTE=VALUE"``.
        remove
            Remove an attribute or a variable, such as ``"VARIABLE:ATTRIBUTE"``.
        rename
            Rename a variable, a dimension or an attribute, such as ``"OLD=NEW"``.
        """
        return self._apply("annotate", dict(set=set, remove=remove, rename=rename))

    def convert(
        self,
        *,
        units: str | float | Sequence[str] | Sequence[float] | None = None,
        longitude: Literal["0..360", "-180..180"] | None = None,
        latitude: Literal["ascending", "descending"] | None = None,
        amounts: Literal["since-start"] | None = None,
        stamp: Literal["start", "middle", "end"] | None = None,
        pack: Literal["keep", "int16", "int8"] | None = None,
    ) -> Dataset:
        """Other units, another order of latitudes and longitudes, packed integers.

        Units are those of UDUNITS. Temperature differences (anomalies, standard deviations) are
        converted without the offset of the scale. Water is converted between mass and depth (such
        as kg m-2 s-1 and mm day-1) by its density, 1000 kg m-3, which is recorded in the attribute
        `comment`. Amounts per month or year (mm month-1) are converted to amounts per day by the
        number of days of that month or year, and so are others to and from these.

        `--amounts since-start` takes amounts that are counted since the start of a forecast, such as
        hourly rain that begins again each day, apart into those of single steps, which end at their
        times; what seems to fall by rounding counts as 0. `--stamp` gives times without bounds the
        bounds that follow from where in its step each lies. The data move with their longitudes and
        latitudes. Packing to int16 spreads the range of the data over all integers and reports the
        resolution; `keep` writes packed input as it was packed. Without options only the format
        changes, which the suffix of the output names.

        Parameters
        ----------
        units
            Units to convert variables to, such as ``"tas=degC,pr='mm day-1'"``.
        longitude
            Longitude convention.
        latitude
            Order of the latitudes.
        amounts
            How amounts of the input are counted.
        stamp
            Where each time lies within its step, for data without bounds.
        pack
            Integer type to pack the values into.
        """
        return self._apply(
            "convert",
            dict(
                units=units,
                longitude=longitude,
                latitude=latitude,
                amounts=amounts,
                stamp=stamp,
                pack=pack,
            ),
        )

    def calc(
        self,
        *,
        formula: str | float | None = None,
        name: str | None = None,
        units: str | None = None,
        keep: bool = False,
    ) -> Dataset:
        """A new variable from a formula of ordinary arithmetic.

        Names are variables and coordinates; 5[degC] is a number with units, and a number without
        units takes those of what it is added to or compared with. There are + - * / ^, comparisons
        (1 where true, 0 where false), and, or, not, sqrt, exp, log, log10, abs, sin, cos, tan,
        arctan2, min, max, where(condition, a, b), missing(x), mean(x, time) or over area, lat, lon
        or level, level(x, 850[hPa]), and of the components of a wind to the east and north speed(u,
        v) and direction(u, v), from where it blows.

        Units are checked and derived. What has the dimension of a number is one at once, with its
        factor: km / m is 1000. Functions of numbers take a percentage as its share, so exp and log
        of 50 % are those of 0.5. Temperatures against differences of temperatures are refused, and
        amounts for a month or a year count by the days of the month or year of each step. The result
        is missing where a value that it needs is missing. The input variables are left out unless
        `--keep` is given.

        Parameters
        ----------
        formula
            What to calculate, such as ``"'sqrt(ua^2 + va^2)'"``.
        name
            Name of the new variable, such as ``"NAME"``.
        units
            Units of the result, such as ``"UNITS"``.
        keep
            Keep the input variables as well.
        """
        return self._apply("calc", dict(formula=formula, name=name, units=units, keep=keep))

    def aggregate(
        self,
        *,
        to: str | float | None = None,
        statistic: str | float = "mean",
        season: str | float | None = None,
        year_start: str | float | None = None,
        stamp: Literal["start", "middle", "end"] | None = None,
        min_coverage: float | None = None,
        coverage: bool = False,
    ) -> Dataset:
        """Statistics over days, months, seasons, years and other periods.

        Time steps are weighted by their length, so the mean of a year of months equals the mean of
        its days. The sum of a rate over time is an amount (mm day-1 give mm); amounts are added,
        and monthly amounts have equal weight in a mean. Sums, and numbers of values above or below
        a threshold, require complete periods, and so does any statistic of at most twelve values,
        such as the months of a year; other statistics require 64 % of the values (20 of 31 days).
        Incomplete periods become missing.

        If the data hold the same months of every year only, a year consists of these months. Steps
        begin and end at their bounds; without bounds they begin at their time stamp, or end there
        with `--stamp end`. A season that crosses the end of the year belongs to the year in which
        it ends, and so does a year that begins in a month other than January.

        Parameters
        ----------
        to
            Hour, 3hour, day, pentad, month, season, year, decade, or 10days, such as
            ``"INTERVAL"``.
        statistic
            Mean, sum, min, max, range, std, variance, median, count, p90, or count-above,
            count-below, longest-run-above or longest-run-below and a threshold, such as
            1mm/day, such as ``"NAME"``.
        season
            One season, in place of the four, such as ``"jun..sep"``.
        year_start
            Month in which years begin, such as ``"oct"``.
        stamp
            Where each time lies within its step, for data without bounds.
        min_coverage
            Minimum fraction of each period that must be present (0 to 1), such as
            ``"0.9"``.
        coverage
            Also write the fraction that is present, as a variable.
        """
        return self._apply(
            "aggregate",
            dict(
                to=to,
                statistic=statistic,
                season=season,
                year_start=year_start,
                stamp=stamp,
                min_coverage=min_coverage,
                coverage=coverage,
            ),
        )

    def accumulate(
        self,
        *,
        reset: Literal["year", "season", "month", "never"] = "year",
        start: str | float | None = None,
        gaps: Literal["stop", "skip"] = "stop",
        leap_day: Literal["keep", "drop"] = "keep",
        stamp: Literal["start", "middle", "end"] | None = None,
    ) -> Dataset:
        """Running totals since the start of each year, season or month.

        Rates become amounts by the length of their time steps; amounts are added. After a gap, or
        where the data begin within a year, the total is unknown and therefore missing until the
        next start; `--gaps skip` treats missing values as zero. Without 29 February all years have
        the same days, so that they can be drawn over each other; what fell on that day is included
        in the total of 1 March.

        Parameters
        ----------
        reset
            When the total restarts from zero.
        start
            Month in which years start, such as ``"oct"``.
        gaps
            Treatment of missing values: the total stops, or skips them.
        leap_day
            Whether 29 February is kept as a time step.
        stamp
            Where each time lies within its step, for data without bounds.
        """
        return self._apply(
            "accumulate", dict(reset=reset, start=start, gaps=gaps, leap_day=leap_day, stamp=stamp)
        )

    def climatology(
        self,
        *,
        base: str | float | None = None,
        cycle: str | float = "month",
        statistic: str | float = "mean",
        smooth: str | float | None = None,
        min_coverage: float = 0.8,
        min_years: int = 3,
    ) -> Dataset:
        """The mean cycle over a base period, or another statistic of it.

        For each phase of the cycle the statistic of all its time steps within the base period is
        computed, leaving missing values out. Steps of unequal length that share a phase, such as
        the months of a season, are weighted by their length. Months are those of the calendar of
        the data; seasons are DJF, MAM, JJA and SON; days have the same place in every year and
        calendar, and 29 February counts with the 28th. The output has climatological time (CF 7.4).

        Parameters
        ----------
        base
            Base period (default: the whole record), such as ``"1991..2020"``.
        cycle
            The cycle: hour, day, month, season, year, none, or month+hour, such as
            ``"CYCLE"``.
        statistic
            Mean, std, variance, median, p90, min, max, range or count, such as ``"NAME"``.
        smooth
            Smooth the cycle: width of a centred window, or '3 harmonics', such as ``"31"``.
        min_coverage
            Minimum fraction of valid values in the base period (0 to 1).
        min_years
            Minimum number of years in the base period.
        """
        return self._apply(
            "climatology",
            dict(
                base=base,
                cycle=cycle,
                statistic=statistic,
                smooth=smooth,
                min_coverage=min_coverage,
                min_years=min_years,
            ),
        )

    def anomaly(
        self,
        *,
        base: str | float | None = None,
        cycle: str | float = "month",
        kind: Literal["difference", "percent", "standardised"] = "difference",
        smooth: str | float | None = None,
        climatology: str | PathLike[str] | Dataset | None = None,
        min_coverage: float = 0.8,
        min_years: int = 3,
    ) -> Dataset:
        """Departures from the mean cycle of a base period.

        The normal of a phase is the mean of all its time steps within the base period. `difference`
        is the value minus its normal; `percent` is that difference in percent of the normal;
        `standardised` is the difference divided by the standard deviation of the phase within the
        base period (divisor n - 1). The anomaly is missing where the divisor is 0, or where a
        normal is less than a thousandth of the largest of its cycle. The base period can be taken
        from another dataset, such as the historical run of a model for its projection, or from a
        climatology that was written before.

        Parameters
        ----------
        base
            Base period (default: the whole record), such as ``"1991..2020"``.
        cycle
            The cycle: hour, day, month, season, year, none, or month+hour, such as
            ``"CYCLE"``.
        kind
            How the anomaly is expressed.
        smooth
            Smooth the cycle: width of a centred window, or '3 harmonics', such as ``"31"``.
        climatology
            Take the climatology from another file: data, or a climatology, such as
            ``"FILE"``.
        min_coverage
            Minimum fraction of valid values in the base period (0 to 1).
        min_years
            Minimum number of years in the base period.
        """
        return self._apply(
            "anomaly",
            dict(
                base=base,
                cycle=cycle,
                kind=kind,
                smooth=smooth,
                climatology=climatology,
                min_coverage=min_coverage,
                min_years=min_years,
            ),
        )

    def index(
        self,
        *,
        kind: Literal["rainfall-anomaly", "standardised"] = "rainfall-anomaly",
        base: str | float | None = None,
        extremes: str | float = "10",
        months: int = 1,
        distribution: Literal["gamma", "normal"] | None = None,
        classes: bool = False,
        min_coverage: float = 0.8,
    ) -> Dataset:
        """How unusual each month, season or year was, as one number.

        `rainfall-anomaly` (van Rooy 1965): departures from the mean, scaled so that +3 is the mean
        of the highest and -3 the mean of the lowest values of the base period. `standardised`
        (McKee and others 1993): the standard normal deviate of equal probability, from a gamma
        distribution with a probability of zero for precipitation, and from a normal distribution
        for other quantities, accumulated over one or several months. Each month or season is
        compared with the same month or season of the base period. Grid cells with equal or too few
        values are missing.

        Parameters
        ----------
        kind
            Kind of index.
        base
            Base period (default: the whole record), such as ``"1991..2020"``.
        extremes
            Extremes at each end: a number of values, or a percentage such as 10%, such as
            ``"10"``.
        months
            Accumulation period in months, for standardised (12 for a year).
        distribution
            Distribution to fit, for standardised (default: by the quantity).
        classes
            Write the class too, from extremely dry to extremely wet.
        min_coverage
            Minimum fraction of valid values in the base period (0 to 1).
        """
        return self._apply(
            "index",
            dict(
                kind=kind,
                base=base,
                extremes=extremes,
                months=months,
                distribution=distribution,
                classes=classes,
                min_coverage=min_coverage,
            ),
        )

    def trend(
        self,
        *,
        method: Literal["least-squares", "theil-sen"] = "least-squares",
        test: Literal["t", "mann-kendall", "seasonal-mann-kendall"] | None = None,
        serial_correlation: Literal["none", "ar1", "hamed-rao", "pre-whitening"] | None = None,
        order: int = 1,
        per: Literal["year", "decade", "century"] = "decade",
        alpha: float = 0.05,
        false_discovery: bool = False,
        min_values: int = 3,
    ) -> Dataset:
        """Slopes of change over time at each cell, with error, p-value and significance.

        The regressor is the decimal year in the calendar of the data, so that one calendar year is
        exactly 1. `least-squares` fits a line, or a parabola with `--order 2`, whose slope is given
        at the middle of the record, and uses a t test. `theil-sen` takes the median of the slopes
        between all pairs of values, with confidence limits after Sen, and uses the Mann-Kendall
        test. Serial correlation makes trends look more significant than they are, so it is taken
        into account by the correction that suits the test, unless `--serial-correlation none` is
        asked for: by the effective number of values (ar1) in the t test, by pre-whitening in the
        Mann-Kendall test. Grid cells need at least `--min-values`
        values. The annual cycle masks a trend, so remove it first with anomaly then trend, or use
        the seasonal test, which compares each month with the same month of other years.

        Parameters
        ----------
        method
            Slope estimator.
        test
            Significance test (default: the one that suits the method).
        serial_correlation
            How serial correlation is handled (default: the correction that suits the test).
        order
            1 for a line, 2 for a parabola.
        per
            Time unit of the slope.
        alpha
            Significance level (0 to 1).
        false_discovery
            Control the false discovery rate (FDR) at alpha across the map.
        min_values
            Minimum number of values per grid cell.
        """
        return self._apply(
            "trend",
            dict(
                method=method,
                test=test,
                serial_correlation=serial_correlation,
                order=order,
                per=per,
                alpha=alpha,
                false_discovery=false_discovery,
                min_values=min_values,
            ),
        )

    def detrend(
        self, *, order: int = 1, keep_mean: bool = False, cycle: str | float = "none"
    ) -> Dataset:
        """Data without their trend, cell by cell.

        A line, or a parabola with `--order 2`, is fitted to decimal years by least squares and
        subtracted. The residuals have mean 0 unless `--keep-mean` adds the mean back. With `--cycle
        month` each month has its own trend and mean. The largest remaining slope is reported at the
        end, as a check that it is zero.

        Parameters
        ----------
        order
            1 for a line, 2 for a parabola.
        keep_mean
            Add the mean back.
        cycle
            Fit each phase of a cycle separately: month, season, day or hour, such as
            ``"CYCLE"``.
        """
        return self._apply("detrend", dict(order=order, keep_mean=keep_mean, cycle=cycle))

    def correlate(
        self,
        *,
        with_: str | PathLike[str] | Dataset | None = None,
        lag: str | float = "0",
        method: Literal["pearson", "spearman"] = "pearson",
        detrend: bool = False,
        cycle: str | float = "none",
    ) -> Dataset:
        """Correlation with a series, or with another field cell by cell.

        Times are matched by the month, day or year that they represent. The p-value accounts for
        serial correlation through the effective sample size. Two series that both have a trend or
        an annual cycle are correlated for that reason alone: `--detrend` and `--cycle month` remove
        these first. With several lags the output has a lag axis, and the lag of the strongest
        correlation at each grid cell; at a positive lag the other series leads.

        Parameters
        ----------
        with_
            The other file; FILE:NAME for one of several variables, such as
            ``"FILE[:NAME]"``.
        lag
            Time steps by which the other series leads, such as ``"-6..6"``.
        method
            Correlation coefficient.
        detrend
            Remove a linear trend from both first.
        cycle
            Remove the mean cycle from both first: month, season, day or hour, such as
            ``"CYCLE"``.
        """
        return self._apply(
            "correlate", dict(with_=with_, lag=lag, method=method, detrend=detrend, cycle=cycle)
        )

    def summarise(
        self,
        *,
        over: Literal["area", "lat", "lon", "level", "time", "ensemble"] = "area",
        statistic: str | float | Sequence[str] | Sequence[float] | None = None,
        region: str | Sequence[str] | None = None,
        cells: Literal["fraction", "centre", "touched"] = "fraction",
        latitude_bands: float | None = None,
        min_coverage: float | None = None,
    ) -> Dataset:
        """A mean or another statistic over the area, regions, bands of latitude, or along an axis.

        Grid cells are weighted by their true area on the sphere, with a region by the part of it
        that lies inside; levels by the thickness of their layers, in pressure where levels are
        pressures; times by their length. Missing values are left out. Regions, and the features of
        a file, are summarised one by one along a dimension `region`; bands of latitude become a
        latitude coordinate with bounds. A sum adds the values, each multiplied by the covered part
        of its cell; a count is the number of cells with a value. Several statistics make one
        variable each. Over an ensemble, if no statistic is named, the output has the mean, the
        standard deviation, and for anomalies and trends the fraction of members that agree with the
        mean in sign.

        Parameters
        ----------
        over
            The axis or axes to summarise over.
        statistic
            One or more of mean, sum, min, max, range, std, variance, median, count, p90
            (default: mean), such as ``"NAME,..."``.
        region
            Countries, land, sea, or outlines in files, one by one, such as
            ``"Norway,FILE#NAME"``.
        cells
            How grid cells on the edge of a region are weighted.
        latitude_bands
            Width of latitude bands in degrees, in place of one area, such as ``"2"``.
        min_coverage
            Minimum fraction of the weight that must be present (0 to 1), such as ``"0.5"``.
        """
        return self._apply(
            "summarise",
            dict(
                over=over,
                statistic=statistic,
                region=region,
                cells=cells,
                latitude_bands=latitude_bands,
                min_coverage=min_coverage,
            ),
        )

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
    ) -> Dataset:
        """Values on another horizontal grid: of a step in degrees, or that of another file.

        `conservative` takes the mean weighted by the areas that cells have in common, which
        conserves area integrals of data without gaps; beside a gap a new cell has the mean of what
        is there, for all of its area. With `--order 2` the field varies linearly within cells, which
        is smoother and still conserves them, but can overshoot beside steep changes. `bilinear`
        interpolates between the four nearest centres. `nearest` takes the value of the nearest cell,
        which flags and classes require. Missing values are left out, and the weights of the others
        are normalised: a conservative mean requires any value, a bilinear one half of its weight,
        unless `--min-coverage` says otherwise. A step in degrees covers the extent of the data with
        cell edges at its multiples.

        Parameters
        ----------
        to
            Width of the new cells in degrees, such as ``"1.0|lat=1,lon=1.25"``.
        like
            A file whose grid is the target, such as ``"FILE"``.
        method
            Regridding method.
        order
            Order of the conservative method: 1 (constant within cells) or 2 (linear within
            cells).
        min_coverage
            Minimum fraction of a new cell that must have values (0 to 1), such as
            ``"0.5"``.
        save_weights
            Write the weights to a file, to be used again, such as ``"FILE.nc"``.
        weights
            Weights written before, in place of a target grid, such as ``"FILE.nc"``.
        """
        return self._apply(
            "regrid",
            dict(
                to=to,
                like=like,
                method=method,
                order=order,
                min_coverage=min_coverage,
                save_weights=save_weights,
                weights=weights,
            ),
        )

    def relevel(
        self,
        *,
        to: str | float | None = None,
        method: Literal["log-pressure", "linear"] | None = None,
        extrapolate: bool = False,
    ) -> Dataset:
        """Values at other pressures, heights or depths.

        Interpolation between the levels on both sides is linear in the logarithm of pressure where
        levels are pressures, and in height or depth otherwise. For model levels (hybrid
        sigma-pressure, sigma) pressures are computed from the formula terms in the file. Values are
        missing beyond the outermost level, unless `--extrapolate` continues the outermost gradient,
        and where a level that is needed is missing.

        Parameters
        ----------
        to
            New levels, with units, such as ``"850hPa,500hPa|100m..2000m/100m"``.
        method
            Coordinate of the linear interpolation (default: log-pressure for pressures).
        extrapolate
            Extrapolate beyond the outermost levels.
        """
        return self._apply("relevel", dict(to=to, method=method, extrapolate=extrapolate))

    def compare(
        self,
        *,
        with_: str | PathLike[str] | Dataset | None = None,
        kind: Literal["difference", "ratio", "percent"] = "difference",
    ) -> Dataset:
        """The difference to another dataset: everywhere, by cell over time, by time over the area, and
        overall.

        Differences are this dataset minus the other; ratios and percentages are relative to the
        other. Times are matched by the month, day or year that they represent, the phases of two
        climatologies by their names, and a single time or a map is compared with every time. Units
        are converted to those of this dataset; the grids must be the same. Grid cells are weighted
        by their true area. A table for the whole dataset is printed.

        Parameters
        ----------
        with_
            The other file or pattern; FILE:NAME for another variable, such as
            ``"FILE[:NAME]"``.
        kind
            How the two are compared.
        """
        return self._apply("compare", dict(with_=with_, kind=kind))

    def draw_map(
        self,
        *,
        variable: str | float | Sequence[str] | Sequence[float] | None = None,
        time: str | float | None = None,
        level: str | float | Sequence[str] | Sequence[float] | None = None,
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
        points: str | PathLike[str] | None = None,
        region: str | Sequence[str] | None = None,
        axes: Any = None,
    ) -> Any:
        """A field on a map with coastlines, country borders and a legend.

        Draws one time step, or the mean of all steps that are left. The colour map suits the
        quantity, and is centred on zero for anomalies. Grid cells without a value are hatched, and
        dots mark significant trends. The line below the title gives the time, the area-weighted
        mean and the range.

        Parameters
        ----------
        variable
            The variable to draw, where there are several, such as ``"NAME"``.
        time
            The time or times to draw, such as ``"2014-01"``.
        level
            The level to draw, or levels where there is an axis of them, such as
            ``"850hPa"``.
        palette
            A Matplotlib colour map, such as ``"NAME"``.
        limits
            Range of the colour bar, such as ``"-2..2"``.
        centre
            Value at the centre of the colour map, such as ``"NUMBER"``.
        projection
            Map projection.
        title
            Title to use instead of the quantity, such as ``"TEXT"``.
        size
            Width and height in pixels (default: what fits the picture), such as
            ``"1280x800"``.
        mark
            How significant grid cells are marked.
        mark_by
            The variable that is 1 in grid cells to mark, such as ``"NAME"``.
        points
            A table of sites to put on the map, such as ``"SITES.csv"``.
        region
            Outlines to draw over the map, such as ``"Norway,FILE#NAME"``.
        axes
            Matplotlib axes to draw into, in place of a figure of its own.
        """
        return self._draw(
            "map",
            axes,
            dict(
                variable=variable,
                time=time,
                level=level,
                palette=palette,
                limits=limits,
                centre=centre,
                projection=projection,
                title=title,
                size=size,
                mark=mark,
                mark_by=mark_by,
                points=points,
                region=region,
            ),
        )

    def draw_panels(
        self,
        *,
        variable: str | float | Sequence[str] | Sequence[float] | None = None,
        time: str | float | None = None,
        level: str | float | Sequence[str] | Sequence[float] | None = None,
        palette: str | None = None,
        limits: str | float | None = None,
        centre: float | None = None,
        title: str | None = None,
        size: str | float | None = None,
        by: Literal["step", "month", "season", "year", "level", "member"] = "step",
        years: str | float | Sequence[str] | Sequence[float] | None = None,
        axes: Any = None,
    ) -> Any:
        """Small maps of the twelve months, the four seasons, years, levels or members, with one legend.

        By month and by season the maps show the mean cycle of all years that are left, by year the
        annual means, by level and by member the mean over time; otherwise each time step has its
        own map.

        Parameters
        ----------
        variable
            The variable to draw, where there are several, such as ``"NAME"``.
        time
            The time or times to draw, such as ``"2014-01"``.
        level
            The level to draw, or levels where there is an axis of them, such as
            ``"850hPa"``.
        palette
            A Matplotlib colour map, such as ``"NAME"``.
        limits
            Range of the colour bar, such as ``"-2..2"``.
        centre
            Value at the centre of the colour map, such as ``"NUMBER"``.
        title
            Title to use instead of the quantity, such as ``"TEXT"``.
        size
            Width and height in pixels (default: what fits the picture), such as
            ``"1280x800"``.
        by
            What each map shows.
        years
            The years to draw, such as ``"2010,2015..2018"``.
        axes
            Matplotlib axes to draw into, in place of a figure of its own.
        """
        return self._draw(
            "panels",
            axes,
            dict(
                variable=variable,
                time=time,
                level=level,
                palette=palette,
                limits=limits,
                centre=centre,
                title=title,
                size=size,
                by=by,
                years=years,
            ),
        )

    def draw_series(
        self,
        *,
        variable: str | float | Sequence[str] | Sequence[float] | None = None,
        time: str | float | None = None,
        level: str | float | Sequence[str] | Sequence[float] | None = None,
        at: str | float | None = None,
        limits: str | float | None = None,
        title: str | None = None,
        size: str | float | None = None,
        bars: bool = False,
        smooth: int | None = None,
        without_cycle: bool = False,
        trend: bool = False,
        with_: str | PathLike[str] | Dataset | None = None,
        axes: Any = None,
    ) -> Any:
        """Curves over time, of a cell or of the mean over the area.

        Each variable, file, region, site or member makes a curve; all need units that can be
        converted to those of the first. Means over the area are weighted by the true area of the
        grid cells and leave missing cells out.

        Parameters
        ----------
        variable
            The variables to draw, such as ``"NAME,..."``.
        time
            The time or times to draw, such as ``"2014-01"``.
        level
            The level to draw, or levels where there is an axis of them, such as
            ``"850hPa"``.
        at
            Draw the grid cell at a position, not the mean over the area, such as
            ``"64.1N,21.9W"``.
        limits
            Range of the value axis, such as ``"-2..2"``.
        title
            Title to use instead of the quantity, such as ``"TEXT"``.
        size
            Width and height in pixels (default: what fits the picture), such as
            ``"1280x800"``.
        bars
            Bars from zero, in one colour above and another below.
        smooth
            Add the centred running mean over N time steps, such as ``"11"``.
        without_cycle
            Add the curve without the mean annual cycle.
        trend
            Add the line of the trend, with its numbers in words.
        with_
            Another file or pattern to draw in the same figure, such as ``"FILE[:NAME]"``.
        axes
            Matplotlib axes to draw into, in place of a figure of its own.
        """
        return self._draw(
            "series",
            axes,
            dict(
                variable=variable,
                time=time,
                level=level,
                at=at,
                limits=limits,
                title=title,
                size=size,
                bars=bars,
                smooth=smooth,
                without_cycle=without_cycle,
                trend=trend,
                with_=with_,
            ),
        )

    def draw_years(
        self,
        *,
        variable: str | float | Sequence[str] | Sequence[float] | None = None,
        time: str | float | None = None,
        level: str | float | Sequence[str] | Sequence[float] | None = None,
        at: str | float | None = None,
        limits: str | float | None = None,
        title: str | None = None,
        size: str | float | None = None,
        start: str | float | None = None,
        emphasise: str | float | Sequence[str] | Sequence[float] | None = None,
        base: str | float | None = None,
        leap_day: Literal["keep", "drop"] = "drop",
        axes: Any = None,
    ) -> Any:
        """One curve for each year on an axis from January to December, or from another month.

        The latest year, or a chosen one, is emphasised. Behind it are the range of the years of the
        base period, their middle 80 % where there are at least ten, and their median. Means over
        the area are weighted by the true area of the grid cells. A year that begins in another
        month is named after the year in which it ends.

        Parameters
        ----------
        variable
            The variable to draw, where there are several, such as ``"NAME"``.
        time
            The time or times to draw, such as ``"2014-01"``.
        level
            The level to draw, or levels where there is an axis of them, such as
            ``"850hPa"``.
        at
            Draw the grid cell at a position, not the mean over the area, such as
            ``"64.1N,21.9W"``.
        limits
            Range of the value axis, such as ``"-2..2"``.
        title
            Title to use instead of the quantity, such as ``"TEXT"``.
        size
            Width and height in pixels (default: what fits the picture), such as
            ``"1280x800"``.
        start
            Month in which years start, such as ``"oct"``.
        emphasise
            The years to emphasise (default: the latest), such as ``"2018"``.
        base
            Years of the range drawn behind (default: all others), such as ``"1991..2020"``.
        leap_day
            Whether 29 February is drawn.
        axes
            Matplotlib axes to draw into, in place of a figure of its own.
        """
        return self._draw(
            "years",
            axes,
            dict(
                variable=variable,
                time=time,
                level=level,
                at=at,
                limits=limits,
                title=title,
                size=size,
                start=start,
                emphasise=emphasise,
                base=base,
                leap_day=leap_day,
            ),
        )

    def draw_profile(
        self,
        *,
        variable: str | float | Sequence[str] | Sequence[float] | None = None,
        time: str | float | None = None,
        level: str | float | Sequence[str] | Sequence[float] | None = None,
        at: str | float | None = None,
        limits: str | float | None = None,
        title: str | None = None,
        size: str | float | None = None,
        against: Literal["level", "lat", "lon"] = "level",
        by: Literal["level", "time", "none"] | None = None,
        log: bool = False,
        axes: Any = None,
    ) -> Any:
        """Curves over height, or against latitude or longitude, coloured by level or time.

        Over height, values run along x and levels along y, with pressures and depths increasing
        downwards. Against latitude each level makes a curve. All other axes are averaged, weighted
        by cell area.

        Parameters
        ----------
        variable
            The variable to draw, where there are several, such as ``"NAME"``.
        time
            The time or times to draw, such as ``"2014-01"``.
        level
            The level to draw, or levels where there is an axis of them, such as
            ``"850hPa"``.
        at
            Draw the grid cell at a position, not the mean over the area, such as
            ``"64.1N,21.9W"``.
        limits
            Range of the value axis, such as ``"-2..2"``.
        title
            Title to use instead of the quantity, such as ``"TEXT"``.
        size
            Width and height in pixels (default: what fits the picture), such as
            ``"1280x800"``.
        against
            The axis along which curves are drawn.
        by
            What each curve shows (default: levels, or else one curve).
        log
            A logarithmic axis of levels.
        axes
            Matplotlib axes to draw into, in place of a figure of its own.
        """
        return self._draw(
            "profile",
            axes,
            dict(
                variable=variable,
                time=time,
                level=level,
                at=at,
                limits=limits,
                title=title,
                size=size,
                against=against,
                by=by,
                log=log,
            ),
        )

    def draw_section(
        self,
        *,
        variable: str | float | Sequence[str] | Sequence[float] | None = None,
        time: str | float | None = None,
        level: str | float | Sequence[str] | Sequence[float] | None = None,
        palette: str | None = None,
        limits: str | float | None = None,
        centre: float | None = None,
        title: str | None = None,
        size: str | float | None = None,
        plane: Literal["lat-level", "lon-level", "time-level", "time-lat", "lon-time"]
        | None = None,
        log: bool = False,
        axes: Any = None,
    ) -> Any:
        """A field over latitude and height, time and latitude, or longitude and time.

        All other axes are averaged, weighted by cell area. Pressures and depths increase downwards.
        The default of --plane is latitude and height where there are levels, and time and latitude
        otherwise.

        Parameters
        ----------
        variable
            The variable to draw, where there are several, such as ``"NAME"``.
        time
            The time or times to draw, such as ``"2014-01"``.
        level
            The level to draw, or levels where there is an axis of them, such as
            ``"850hPa"``.
        palette
            A Matplotlib colour map, such as ``"NAME"``.
        limits
            Range of the colour bar, such as ``"-2..2"``.
        centre
            Value at the centre of the colour map, such as ``"NUMBER"``.
        title
            Title to use instead of the quantity, such as ``"TEXT"``.
        size
            Width and height in pixels (default: what fits the picture), such as
            ``"1280x800"``.
        plane
            The quantities on the x and y axes.
        log
            A logarithmic axis of levels.
        axes
            Matplotlib axes to draw into, in place of a figure of its own.
        """
        return self._draw(
            "section",
            axes,
            dict(
                variable=variable,
                time=time,
                level=level,
                palette=palette,
                limits=limits,
                centre=centre,
                title=title,
                size=size,
                plane=plane,
                log=log,
            ),
        )

    def draw_animation(
        self,
        *,
        variable: str | float | Sequence[str] | Sequence[float] | None = None,
        time: str | float | None = None,
        level: str | float | Sequence[str] | Sequence[float] | None = None,
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
    ) -> Any:
        """A map for each step in time, one after another, with one legend and the date in the title.

        Written as .gif, or as .mp4 where the program ffmpeg is installed.

        Parameters
        ----------
        variable
            The variable to draw, where there are several, such as ``"NAME"``.
        time
            The time or times to draw, such as ``"2014-01"``.
        level
            The level to draw, or levels where there is an axis of them, such as
            ``"850hPa"``.
        palette
            A Matplotlib colour map, such as ``"NAME"``.
        limits
            Range of the colour bar, such as ``"-2..2"``.
        centre
            Value at the centre of the colour map, such as ``"NUMBER"``.
        projection
            Map projection.
        title
            Title to use instead of the quantity, such as ``"TEXT"``.
        size
            Width and height in pixels (default: what fits the picture), such as
            ``"1280x800"``.
        every
            Draw every n-th time step.
        rate
            Frames per second.
        axes
            Matplotlib axes to draw into, in place of a figure of its own.
        """
        return self._draw(
            "animation",
            axes,
            dict(
                variable=variable,
                time=time,
                level=level,
                palette=palette,
                limits=limits,
                centre=centre,
                projection=projection,
                title=title,
                size=size,
                every=every,
                rate=rate,
            ),
        )
