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

        Keeps every cell whose centre lies in the closed ranges given. Longitudes are compared modulo
        360 and run eastward, so 170E..160W crosses the dateline and comes out in one piece, counted
        from the west end as typed. A single latitude or longitude takes the row or column of cells
        it lies in. Where latitude and longitude have two dimensions, the smallest block that holds the
        cells is kept, and its cells outside the ranges become missing; of sites those that lie in the
        ranges are kept, or the one nearest to a position. With a season, years are those
        the season ends in: DJF of 2014 begins in December 2013. Values are those of the input; nothing
        is averaged. A region keeps the cells that it touches, and says in the variable `covered_area`
        with which area each counts: that of its covered part, or with `--cells` the whole of cells
        whose centre lies inside or that are touched; later means over the area weigh by it.

        Parameters
        ----------
        variable
            Names or standard names to keep, such as ``"NAME,..."``.
        lat
            Latitudes to keep, from south to north, such as ``"35S..10N"``.
        lon
            Longitudes to keep, eastward, such as ``"170E..160W"``.
        at
            The one cell that holds a position, such as ``"64.1N,21.9W"``.
        region
            Countries, land, sea, or outlines in files to crop to and to mask outside, such
            as ``"Norway,FILE#NAME"``.
        cells
            Which part of a cell on the edge of a region counts.
        time
            Times to keep, all of both ends included, such as ``"1991..2020"``.
        months
            Months of the year to keep, such as ``"nov..mar"``.
        season
            A season to keep, by the initials of its months, such as ``"DJF"``.
        years
            Years to keep, such as ``"2010,2015..2018"``.
        level
            Levels to keep, with units or in those of the data, such as ``"850hPa,500hPa"``.
        every
            Keep each n-th along an axis, such as ``"time=12"``.
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

        The table has a header and columns of latitude and longitude under any usual name; all its other
        columns go along. A site takes the cell with the nearest centre, or what the four around it
        interpolate to; the distance to the nearest is written with it. A site that the grid does not
        reach, and one whose cell has no data, are named with their lines. Written as .csv there is one
        row for each site and time, or with `--layout wide` one row for each site and one column for
        each time; as .nc time series as CF has them.

        Parameters
        ----------
        points
            A table of sites, such as ``"SITES.csv"``.
        lat
            Every cell between latitudes, in place of sites, such as ``"60N..62N"``.
        lon
            Every cell between longitudes, in place of sites, such as ``"8E..10E"``.
        method
            How a site gets its value.
        search
            Take the nearest cell with data so many cells around, where a site's has none,
            such as ``"2"``.
        layout
            How a table is laid out.
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

        Each option can be given several times. Renaming comes first, then removing, then setting, so
        settings use the new names. A new name is also put wherever another variable refers to the
        old one. An attribute is text, unless the one that it replaces is a number. Attributes that say
        how numbers are stored (such as `scale_factor`) cannot be set, since that would change the data.

        Parameters
        ----------
        set
            Give an attribute a value, such as ``"VARIABLE:ATTRIBUTE=VALUE"``.
        remove
            Take an attribute or a variable away, such as ``"VARIABLE:ATTRIBUTE"``.
        rename
            Give a variable, dimension or attribute another name, such as ``"OLD=NEW"``.
        """
        return self._apply("annotate", dict(set=set, remove=remove, rename=rename))

    def convert(
        self,
        *,
        units: str | float | Sequence[str] | Sequence[float] | None = None,
        longitude: Literal["0..360", "-180..180"] | None = None,
        latitude: Literal["ascending", "descending"] | None = None,
        pack: Literal["keep", "int16", "int8"] | None = None,
    ) -> Dataset:
        """Other units, another order of latitudes and longitudes, packed integers.

        Units are those of UDUNITS. Differences of temperature (departures, standard deviations) are
        converted without the offset of the scale. Water is converted between mass and depth (such as
        kg m-2 s-1 and mm day-1) by its density, 1000 kg m-3, which the attribute `comment` then says.
        Amounts for each month or year (mm month-1) become amounts a day by the days of their own month
        or year. Longitudes and latitudes take their data along. Packing to int16 spreads the range of
        the data over all integers and reports the step; `keep` writes what came in packed as it came.

        Parameters
        ----------
        units
            Units that variables are to be in, such as ``"tas=degC,pr='mm day-1'"``.
        longitude
            How longitudes are to be counted.
        latitude
            Which way latitudes are to run.
        pack
            Integers to keep the values in.
        """
        return self._apply(
            "convert", dict(units=units, longitude=longitude, latitude=latitude, pack=pack)
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

        Names are variables and coordinates; 5[degC] is a number with units, and one without takes those
        of what it is added to or compared with. There are + - * / ^, comparisons (1 where true, 0 where
        not), and, or, not, sqrt, exp, log, log10, abs, sin, cos, tan, arctan2, min, max,
        where(condition, a, b), missing(x), mean(x, time) or over area, lat, lon or level, and level(x,
        850[hPa]). Units are checked and derived; a value is missing where one that it needs is. The
        other variables are left out.

        Parameters
        ----------
        formula
            What to calculate, such as ``"'sqrt(ua^2 + va^2)'"``.
        name
            Name of the new variable, such as ``"NAME"``.
        units
            Units to turn the result into, such as ``"UNITS"``.
        keep
            Keep the variables that there were, too.
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

        Steps of unequal length count by their length, so the mean of a year of months is one of days.
        The sum of a rate over time is an amount (mm day-1 give mm); amounts are added, and months of
        them count alike in a mean. A sum, and a number of values above or below a threshold, needs
        every value of its period, and so does any statistic of at most twelve values, such as the
        months of a year; others need 64 % of them (20 of 31 days), and what has less is missing. Where
        the data hold the same months of every year alone, years are of these. Steps begin and end at
        their bounds; without bounds they begin at their time, or end there with `--stamp end`. A season
        that crosses the end of the year belongs to the year in which it ends, and so does a year that
        begins in another month than January.

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
            Where in its step each time stands, for data without bounds.
        min_coverage
            Share of each period that has to be there, such as ``"0.9"``.
        coverage
            Write the share that is there as a variable too.
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
    ) -> Dataset:
        """Running totals since the start of each year, season or month.

        Rates become amounts by the length of their steps; amounts are added. After a gap, or where the
        data begin within a year, the total is missing up to the next start, since nobody knows it;
        `--gaps skip` takes what is missing for nothing. Without 29 February every year has the same
        days, so that years can be laid over each other; what fell on it is in the total of 1 March.

        Parameters
        ----------
        reset
            When the total starts again.
        start
            Month in which years start, such as ``"oct"``.
        gaps
            What a missing value does to the total.
        leap_day
            Whether 29 February has a step of its own.
        """
        return self._apply(
            "accumulate", dict(reset=reset, start=start, gaps=gaps, leap_day=leap_day)
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

        Each phase of the cycle gets the statistic of all its steps within the base period; missing
        values are left out. Steps of unequal length count by their length where they share a phase, as
        months do in a season. Months are those of the data's own calendar; seasons are DJF, MAM, JJA
        and SON; days have the same place in every year and calendar, 29 February counting with the
        28th. The result carries climatological time (CF 7.4).

        Parameters
        ----------
        base
            Years that define normal; all by default, such as ``"1991..2020"``.
        cycle
            What repeats: hour, day, month, season, year, none, or month+hour, such as
            ``"CYCLE"``.
        statistic
            Mean, std, variance, median, p90, min, max, range or count, such as ``"NAME"``.
        smooth
            Smooth the cycle: a window of so many phases, or '3 harmonics', such as
            ``"31"``.
        min_coverage
            Share of the base's values that a normal needs.
        min_years
            Fewest years that a normal is made of.
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

        The normal of a phase is the mean of all its steps within the base period. `difference` is
        the value minus its normal; `percent` is that difference in percent of the normal;
        `standardised` is the difference divided by the standard deviation of the phase's steps in
        the base (divisor n - 1). Where the divisor is 0, or a normal less than a thousandth of the
        largest of its cycle, the departure is missing. The base can lie in another dataset, such as
        the past of a model for its future, or be a climatology that was written before.

        Parameters
        ----------
        base
            Years that define normal; all by default, such as ``"1991..2020"``.
        cycle
            What repeats: hour, day, month, season, year, none, or month+hour, such as
            ``"CYCLE"``.
        kind
            How the departure is expressed.
        smooth
            Smooth the cycle: a window of so many phases, or '3 harmonics', such as
            ``"31"``.
        climatology
            Take normal from another file: data, or their climatology, such as ``"FILE"``.
        min_coverage
            Share of the base's values that a normal needs.
        min_years
            Fewest years that a normal is made of.
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

        `rainfall-anomaly` (van Rooy 1965): departures from the mean, scaled so that +3 is the mean of
        the highest and -3 that of the lowest values of the base. `standardised` (McKee and others
        1993): the standard normal deviate of the same probability, from a gamma distribution with a
        share of zeros for precipitation and a normal one for other quantities, over one or several
        months. Each month, or season, of the year is held against its own in the base. Cells where all
        values are equal, or too few are there, are missing.

        Parameters
        ----------
        kind
            How the index is made.
        base
            Years to hold it against; all by default, such as ``"1991..2020"``.
        extremes
            Extremes at each end, a number or a share such as 10%, such as ``"10"``.
        months
            Months up to each that count together, for standardised.
        distribution
            What is fitted for standardised; by the quantity if not given.
        classes
            Write the class too, from extremely dry to extremely wet.
        min_coverage
            Share of the base's values that are needed.
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
        serial_correlation: Literal["none", "ar1", "hamed-rao", "pre-whitening"] = "none",
        order: int = 1,
        per: Literal["year", "decade", "century"] = "decade",
        alpha: float = 0.05,
        false_discovery: bool = False,
        min_values: int = 3,
    ) -> Dataset:
        """Slopes of change over time at each cell, with error, p-value and significance.

        The times are decimal years of the data's own calendar, one calendar year being exactly 1.
        `least-squares` fits a line, or a parabola with `--order 2`, whose slope is then that at the
        middle of the record; its test is the t test. `theil-sen` takes the median of the slopes between
        all pairs of values, with limits after Sen; its test is that of Mann and Kendall. Where values
        follow each other trends look surer than they are: `--serial-correlation` says what is done
        about it. A cell needs `--min-values`. The cycle of the year hides a trend, so take it out
        first: anomaly then trend; or use the seasonal test, which holds each month against its own.

        Parameters
        ----------
        method
            How slopes are found.
        test
            What decides whether there is a trend; by the method if not given.
        serial_correlation
            What is done about values that follow each other.
        order
            1 for a line, 2 for a parabola.
        per
            The time that the slope is given for.
        alpha
            P-values below this count as significant.
        false_discovery
            Hold alpha as the share of false discoveries over the map.
        min_values
            Fewest values that a cell needs.
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

        A line, or a parabola with `--order 2`, is fitted by least squares to decimal years and taken
        away; what is left has mean 0 unless `--keep-mean` puts the mean back. With `--cycle month` each
        month has a trend, and a mean, of its own. The largest slope that is left anywhere is said at
        the end, so that one can see that it is none.

        Parameters
        ----------
        order
            1 for a line, 2 for a parabola.
        keep_mean
            Put the mean back.
        cycle
            Fit each phase of a cycle by itself: month, season, day or hour, such as
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

        Times are matched by the month, day or year that they stand for. The p-value takes account of
        values that follow each other, by way of the effective sample size. Two series that both have a
        trend or a cycle of the year correlate for that alone: `--detrend` and `--cycle month` take
        these out first. With several lags the result has a lag axis, and the lag of the strongest
        correlation at each cell; a positive lag means that the other goes before.

        Parameters
        ----------
        with_
            The other file; FILE:NAME for one of several variables, such as
            ``"FILE[:NAME]"``.
        lag
            Steps by which the other goes before, such as ``"-6..6"``.
        method
            Which correlation.
        detrend
            Take a line out of both first.
        cycle
            Take the mean cycle out of both first: month, season, day or hour, such as
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

        Cells weigh by their true area on the sphere, and with a region by the part of it that lies
        inside; levels by the thickness of their layers, in pressure where levels are pressures; times
        by their length. Missing values are left out. Regions, and the features of a file, are
        summarised one by one along a dimension `region`; bands of latitude come as a latitude with
        bounds. A sum adds values, each times the covered part of its cell; a count says how many cells
        have a value. Of several statistics each makes a variable of its own. Over the members of an
        ensemble, where no statistic is named, come their mean, their standard deviation, and of
        departures and trends the share of members that agree with the mean in sign.

        Parameters
        ----------
        over
            What the statistic takes the place of.
        statistic
            One or more of mean, sum, min, max, range, std, variance, median, count, p90
            (default: mean), such as ``"NAME,..."``.
        region
            Countries, land, sea, or outlines in files, one by one, such as
            ``"Norway,FILE#NAME"``.
        cells
            Which part of a cell on the edge of a region counts.
        latitude_bands
            Bands of latitude so many degrees wide, in place of one area, such as ``"2"``.
        min_coverage
            Share of the weight that has to be there, such as ``"0.5"``.
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

        `conservative` takes the mean over the area that cells share, so integrals over the area stay
        what they are; with `--order 2` the field may slope within a cell, which is smoother and still
        keeps them. `bilinear` interpolates between the four centres around, `nearest` takes the nearest
        cell and is what flags and classes need. Missing values are left out and the rest is weighted
        anew: a conservative mean needs any value, a bilinear one half of its weight, unless
        `--min-coverage` says otherwise. A step in degrees covers the extent of the data with edges on
        its multiples.

        Parameters
        ----------
        to
            Width of the new cells in degrees, such as ``"1.0|lat=1,lon=1.25"``.
        like
            A file whose grid to take, such as ``"FILE"``.
        method
            How values get to the new cells.
        order
            1 or 2: whether a conservative mean takes values as flat or sloping within
            cells.
        min_coverage
            Share of a new cell that has to have values, such as ``"0.5"``.
        save_weights
            Write the weights, to use again, such as ``"FILE.nc"``.
        weights
            Weights that were written before, in place of a grid, such as ``"FILE.nc"``.
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

        By straight lines between the levels on both sides: in the logarithm of pressure where levels
        are pressures, else in height or depth. From a model's own levels (hybrid sigma-pressure, sigma)
        pressures are computed as the file says how. Beyond the outermost level values are missing,
        unless `--extrapolate` goes on with the last line; they are missing, too, where a level that is
        needed is.

        Parameters
        ----------
        to
            New levels, with units, such as ``"850hPa,500hPa|100m..2000m/100m"``.
        method
            In what lines are straight (default: log-pressure for pressures).
        extrapolate
            Go on beyond the outermost levels.
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

        Differences are this dataset minus the other; ratios and percentages are relative to the other.
        Times are matched by the month, day or year that they stand for, phases of two climatologies by
        their names, and a single time or a map is compared with every time. Units are turned into those
        of this dataset; the cells have to be the same. Over the area cells are weighted by their true
        size. A table of the whole is printed.

        Parameters
        ----------
        with_
            The other file or pattern; FILE:NAME for another variable, such as
            ``"FILE[:NAME]"``.
        kind
            How values are set against each other.
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

        Draws one step in time, or the mean of all steps that are left. The palette follows the
        quantity, and pivots on zero for departures. Cells without a value are hatched, and dots lie
        where a trend is significant. The line under the title says which time is shown, the
        area-weighted mean and the range.

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
            How cells are marked where a trend, or what --mark-by names, is significant.
        mark_by
            The variable that is 1 in cells to mark, such as ``"NAME"``.
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

        By month and by season the maps show the mean cycle of all years that are left, by year the mean
        of each, by level and by member of an ensemble the mean over time; without a choice each step in
        time gets a map.

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

        Each variable, each file, and each region, site or member makes a curve; all have to be in units
        that can be turned into those of the first. Means over the area weight cells by their true area
        on the sphere and leave missing cells out.

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
            Add the centred mean of so many steps, such as ``"11"``.
        without_cycle
            Add the curve without the mean cycle of the year.
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

        The latest year, or a chosen one, stands out; behind it lie the range of the years of the base,
        the middle 80 % of them where there are ten, and their median. Means over the area weight cells
        by their true area. A year that begins in another month is called after the one in which it
        ends.

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
            The years that stand out; the latest if not given, such as ``"2018"``.
        base
            Years whose range lies behind; all others by default, such as ``"1991..2020"``.
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

        Over height, values run along x and levels up, pressures and depths down. Against latitude each
        level makes a curve. All other axes are averaged, cells by their area.

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
            What curves run along.
        by
            What each curve stands for (default: levels, or else one curve).
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

        All other axes are averaged, cells by their area. Pressures and depths grow downwards. Without
        --plane it is latitude and height where there are levels, else time and latitude.

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
            What runs along x and y.
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
            Draw each n-th step.
        rate
            Maps in a second.
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
