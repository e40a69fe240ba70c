"""Figures: what is in them is read back from Matplotlib's own objects, and from the files
written."""

from __future__ import annotations

import json
import re

import matplotlib.image
import numpy as np
import pandas
import pytest
import shapely
from matplotlib.collections import LineCollection, PathCollection, QuadMesh
from matplotlib.text import Text

import rhodolite
from conftest import make_dataset
from rhodolite import (
    Accumulate,
    Aggregate,
    Anomaly,
    Climatology,
    DataError,
    Map,
    Panels,
    Series,
    Subset,
    UsageError,
    YearOverlay,
)
from rhodolite.arrays import InMemory, default_engine
from rhodolite.drawing import all_drawings
from rhodolite.drawing.options import ProjectionName
from rhodolite.drawing.parts.colour_scale import scale_for
from rhodolite.drawing.parts.map_geometry import MapGeometry
from rhodolite.drawing.parts.text import period_text
from rhodolite.inspection.summary import describe
from rhodolite.model.axes import Role
from rhodolite.model.indexing import take
from rhodolite.model.labels import labels_along
from rhodolite.model.time.time_labels import time_labels
from rhodolite.model.variable import Variable
from rhodolite.operations.pairing.ensemble import stack_members
from rhodolite.operations.variables.references import with_bounds
from rhodolite.pipeline.writing import save_figure
from rhodolite.regions.coastlines import land_at, lines
from rhodolite.reports.numbers import sentences_of


@pytest.fixture(scope="module")
def garnet(demo):
    return rhodolite.read(demo / "garnet_monthly_1981-2020.nc")


def mesh_of(figure):
    return next(c for c in figure.axes[0].collections if isinstance(c, QuadMesh))


def texts(figure):
    axes, *others = figure.axes
    words = [text.get_text().replace("\n", " ") for text in figure.texts]
    return " | ".join(
        [*words, axes.get_ylabel(), *(a.get_xlabel() + a.get_ylabel() for a in others)]
    )


def test_the_coastline_sits_on_the_data_in_either_convention():
    """Land drawn as a field has its edge within a cell of the outlines drawn over it."""
    for start in (-180.0, 0.0):
        lons, lats = start + 0.5 + np.arange(360), np.arange(-89.5, 90)
        land = land_at(*np.meshgrid(lons, lats)).astype("f4")
        figure = Map()(
            make_dataset(
                land[None],
                lats=lats,
                lons=lons,
                attributes={"units": "1", "standard_name": ""},
            )
        )
        drawn = mesh_of(figure).get_array().reshape(land.shape)
        np.testing.assert_array_equal(drawn, land)
        coast = [
            c for c in figure.axes[0].collections if isinstance(c, LineCollection)
        ][-1]
        vertices = np.concatenate(
            [segment for segment in coast.get_segments() if len(segment) > 40]
        )
        inside = (
            (vertices[:, 0] > start + 1)
            & (vertices[:, 0] < start + 359)
            & (np.abs(vertices[:, 1]) < 80)
        )
        columns, rows = ((vertices[inside] - (start, -90)).T).astype(int)
        around = sum(
            land[rows + dy, columns + dx] for dx in (-1, 0, 1) for dy in (-1, 0, 1)
        )
        assert (
            (around > 0) & (around < 9)
        ).mean() > 0.97  # both land and sea next to the coast


def test_no_outline_jumps_across_the_map():
    for kind in ("coast", "border"):
        for scale in ("110m", "50m"):
            assert (
                max(np.abs(np.diff(line[:, 0])).max() for line in lines(kind, scale))
                < 20
            )
    # On both sides of the dateline, at both poles, and in a lake's country; 1 is land.
    known = {
        (10, 62): 1,
        (20, 57): 0,
        (-170, 65): 0,
        (179, 68): 1,
        (-175, 67): 1,
        (0, -85): 1,
        (0, 89): 0,
    }
    lon, lat = np.array(list(known), dtype=float).T
    for scale in ("110m", "50m"):
        np.testing.assert_array_equal(
            land_at(lon % 360, lat, scale), np.array(list(known.values()), bool)
        )


def test_a_map_says_what_when_and_in_which_units(garnet):
    figure = Map(variable="tas", time="2003-07")(garnet)
    assert "Near-surface air temperature | July 2003 · area mean 28" in texts(figure)
    assert texts(figure).endswith("Near-surface air temperature (K)")
    assert figure.axes[0].get_xlim() == (0, 360)
    assert figure.axes[0].get_legend().get_texts()[0].get_text() == "no data"
    several = Map(variable="pr", time="2003-06..2003-08", title="Rain")(garnet)
    assert "Rain | Mean of 3 months, June 2003 to August 2003" in texts(several)
    assert texts(several).endswith("Precipitation (10⁻⁵\u00a0kg\u00a0m⁻²\u00a0s⁻¹)")
    several.draw_without_rendering()
    assert (
        max(float(label.get_text()) for label in several.axes[1].get_xticklabels())
        < 100
    )


def test_departures_pivot_on_zero_with_white_in_the_middle(garnet):
    for kind in ("difference", "standardised"):
        mesh = mesh_of(Map(variable="tas", time="2015-03")(Anomaly(kind=kind)(garnet)))
        edges = mesh.norm.boundaries
        np.testing.assert_allclose(edges, -edges[::-1])
        below, above = mesh.cmap(mesh.norm([-1e-6, 1e-6]))[:, :3]
        assert below[2] > below[0]  # bluish below zero
        assert above[0] > above[2]  # reddish above
        assert min(below.min(), above.min()) > 0.85  # both pale


def test_limits_and_centre_are_kept(garnet):
    mesh = mesh_of(
        Map(
            variable="tas",
            time="2003-07",
            limits="250..300",
            centre=273.15,
            palette="coolwarm",
        )(garnet)
    )
    assert (mesh.norm.boundaries[0], mesh.norm.boundaries[-1]) == (250, 300)
    assert mesh.cmap.get_under().tolist() != mesh.cmap(0)
    half = mesh_of(
        Map(variable="tas", time="2003-07", limits="250..")(garnet)
    ).norm.boundaries
    assert half[0] == 250
    assert half[-1] == round(half[-1])
    red, _, blue = mesh.cmap(mesh.norm(272))[:3]
    assert blue > red


@pytest.mark.parametrize(
    "values", [[5.0] * 4, [np.nan] * 4, [0, 0, 0, 1e-9], [1, 2, 3, np.inf]]
)
def test_any_field_gets_a_scale(values):
    variable = Variable("v", (), rhodolite.arrays.InMemory(0.0), {"units": "1"})
    scale = scale_for(np.array(values), variable, None, (None, None), None)
    assert (np.diff(scale.edges) > 0).all()


def test_a_series_at_a_cell_and_of_the_area_mean(garnet):
    part = Subset(time="2001..2003", variable="tas")(garnet)
    line = Series(at="61N,10E")(part).axes[0].lines[0]
    column = Subset(at="61N,10E")(part)["tas"].values().ravel()
    np.testing.assert_allclose(line.get_ydata(), column)
    figure = Series()(part)
    weights = np.cos(
        np.radians(part["lat"].values())
    )  # equal to the zones' areas for equal steps, up to a factor
    values = part["tas"].values()
    full = np.broadcast_to(weights[:, None], values.shape[1:])
    expected = [np.average(v[~np.isnan(v)], weights=full[~np.isnan(v)]) for v in values]
    np.testing.assert_allclose(
        figure.axes[0].lines[0].get_ydata(), expected, rtol=1e-12
    )
    assert "Mean over the globe" in texts(figure)


def test_several_curves_share_units_and_have_a_legend(demo, garnet):
    winds = rhodolite.read(demo / "pressure_monthly.nc")
    figure = Series(variable="ua,va", level="200hPa", at="40N,0E")(winds)
    assert [t.get_text() for t in figure.legends[0].get_texts()] == [
        "Eastward wind",
        "Northward wind",
    ]
    celsius = make_dataset(
        np.full((24, 2, 2), 10.0),
        times=30 * np.arange(24),
        units="days since 2001-01-01",
        calendar="360_day",
        attributes={"units": "degC"},
    )
    series = Series(variable="tas", time="2001..2002", with_=celsius)
    figure = series(garnet)
    assert figure.axes[0].lines[1].get_ydata()[0] == pytest.approx(283.15)
    days = figure.axes[0].lines[1].get_xdata()
    assert 0 < days[1] - days[0] < 31
    with pytest.raises(
        DataError,
        match=r"tas is in K and pr in kg m-2 s-1, which cannot share an axis; choose with",
    ):
        Series()(garnet)


@pytest.mark.slow
@pytest.mark.parametrize("suffix", [".png", ".svg", ".pdf"])
def test_files_of_every_kind_are_the_same_each_time(tmp_path, garnet, suffix):
    part = garnet.subset(lat="50..70", lon="0..40")
    for name in ("a", "b"):
        save_figure(
            Map(variable="tas", time="2003-07", size="640x400")(part),
            tmp_path / (name + suffix),
        )
    assert (tmp_path / f"a{suffix}").read_bytes() == (
        tmp_path / f"b{suffix}"
    ).read_bytes()
    if suffix == ".png":
        assert matplotlib.image.imread(tmp_path / "a.png").shape[:2] == (400, 640)


def test_a_climatology_is_titled_by_its_month_and_years(garnet):
    figure = Map(variable="tas", time="1991-07")(Climatology(base="1991..2020")(garnet))
    assert "July, 1991 to 2020" in texts(figure)


@pytest.mark.parametrize(
    ("settings", "message"),
    [
        ({}, "several variables could be drawn: ta, ua, va. Add --variable ta"),
        ({"variable": "ta"}, "ta has 12 levels .* choose one, such as --level 1000hPa"),
        ({"variable": "ta", "level": "200hPa", "time": "1999"}, "no time step fits"),
        ({"variable": "lat"}, "lat has no longitude axis"),
    ],
)
def test_what_cannot_be_drawn_is_refused_with_advice(demo, settings, message):
    with pytest.raises(DataError, match=message):
        Map(**settings)(rhodolite.read(demo / "pressure_monthly.nc"))


@pytest.mark.parametrize("projection", list(ProjectionName))
@pytest.mark.filterwarnings("ignore::rhodolite.errors.RhodoliteWarning")
def test_marks_are_cut_to_the_map_as_the_field_is(garnet, projection):
    """As many dots in a wide grid as significant cells within the map."""
    trends = rhodolite.Trend()(Subset(every="lat=4,lon=4", variable="tas")(garnet))
    figure = Map(variable="tas_trend", projection=projection)(trends)
    part = Map(variable="tas_trend", projection=projection).shown(trends)
    flags = Subset(variable="tas_trend_significant")(trends)
    latitudes = part.need(Role.LATITUDE).values
    within = np.isin(flags.need(Role.LATITUDE).values, latitudes)
    dots = [
        len(mark.get_offsets())
        for mark in figure.axes[0].collections
        if isinstance(mark, PathCollection) and mark.get_sizes().tolist() == [4.0]
    ]
    assert dots == [(flags["tas_trend_significant"].values()[within] == 1).sum()]
    Map(variable="tas_trend", projection=projection, mark="hatches")(trends)


def test_palettes_that_do_not_exist_are_refused():
    with pytest.raises(UsageError, match=r"no palette 'virids'\. Did you mean viridis"):
        Map(palette="virids")


def test_one_curve_a_year_from_its_first_day_to_its_last(demo):
    daily = Subset(variable="pr", at="61N,9E")(
        rhodolite.read(str(demo / "nordic_daily_201*.nc"))
    )
    figure = YearOverlay(start="oct", emphasise="2012", base="2012..2016")(
        Accumulate(start="oct", gaps="skip")(daily)
    )
    axes = figure.axes[0]
    line = next(line for line in axes.lines if line.get_label() == "2012")
    assert line.get_xdata()[[0, -1]].tolist() == [
        0.5,
        364.5,
    ]  # noon of 1 October and of 30 September; no leap day
    totals = daily["pr"].values().ravel() * 86400
    year = (daily.time.years + (daily.time.months >= 10)) == 2012
    leap = (daily.time.months == 2) & (daily.time.days == 29)
    np.testing.assert_allclose(
        line.get_ydata(), np.cumsum(totals[year])[~leap[year]], rtol=1e-5
    )
    assert [label.get_text() for label in axes.get_xticklabels(minor=True)][:4] == [
        "Oct",
        "Nov",
        "Dec",
        "Jan",
    ]
    assert "2012 to 2016 behind" in texts(figure)
    with pytest.raises(DataError, match="--emphasise 1950: the data hold 2010 to 2018"):
        YearOverlay(emphasise="1950")(daily)
    with pytest.raises(
        DataError, match=r"--base 1800..1810: the data hold 2010 to 2018"
    ):
        YearOverlay(base="1800..1810")(daily)
    with pytest.raises(DataError, match="one value a year"):
        YearOverlay()(Aggregate(to="year")(daily))


@pytest.mark.slow
@pytest.mark.parametrize("bounded", [True, False])
@pytest.mark.parametrize("steps", ["month", "10days", "week"])
def test_the_median_of_years_is_of_all_of_them(steps, bounded):
    """Middles of Februaries lie half a day apart in leap years, and weeks begin on any day."""
    first = np.datetime64("2001-01-01")
    begins = first + np.arange(0, 365 * 16, 7 if steps == "week" else 10)
    if steps == "month":
        begins = np.arange("2001-01", "2017-01", dtype="M8[M]").astype("M8[D]")
    ends = np.append(begins[1:], begins[-1] + np.diff(begins)[-1])
    days = np.stack([begins, ends], 1).astype(float) - first.astype(float)
    middles = days.mean(axis=1)
    years = (first + middles.astype(int)).astype("M8[Y]").astype(int)
    data = make_dataset(
        years.astype(float).reshape(-1, 1, 1),
        times=middles if bounded else days[:, 0],
        units="days since 2001-01-01",
    )
    figure = YearOverlay()(with_bounds(data, "time", days) if bounded else data)
    (median,) = (x for x in figure.axes[0].lines if x.get_label() == "median")
    places, values = median.get_data()
    assert len(places) == {"month": 12, "10days": 37, "week": 52}[steps]
    # Of the fifteen years before the last, each a year more.
    inner = values[1:-1]
    np.testing.assert_allclose(inner, np.full(inner.size, 31 + 7.0))


def test_small_maps_share_a_legend_and_are_named_by_what_they_show(garnet):
    tas = Subset(variable="tas")(garnet)
    for by, names in (
        ("month", ["January", "December"]),
        ("season", ["DJF", "SON"]),
        ("year", ["2015", "2018"]),
    ):
        figure = Panels(by=by, years="2015..2018")(tas)
        *maps, legend = figure.axes
        assert [maps[at].get_title() for at in (0, -1)] == names
        assert len(maps) == {"month": 12, "season": 4, "year": 4}[by]
        meshes = [
            c for axes in maps for c in axes.collections if isinstance(c, QuadMesh)
        ]
        assert len({id(mesh.norm) for mesh in meshes}) == 1
        assert (
            legend.get_xlabel()
            .lower()
            .endswith("near-surface air temperature, 2015 to 2018 (k)")
            or by == "year"
        )
    with pytest.raises(DataError, match="480 maps are too many for one figure"):
        Panels()(tas)


def test_bars_and_running_means_show_both_sides_of_zero(garnet):
    yearly = Aggregate(to="year")(Anomaly()(Subset(variable="tas")(garnet)))
    figure = Series(bars=True, smooth=5)(yearly)
    heights = np.array([bar.get_height() for bar in figure.axes[0].patches])
    assert sorted(heights) == pytest.approx(sorted(mean_values(yearly)), rel=1e-5)
    assert {bar.get_facecolor()[:3] for bar in figure.axes[0].patches[:1]} != {
        bar.get_facecolor()[:3] for bar in figure.axes[0].patches[-1:]
    }
    smooth = next(
        line for line in figure.axes[0].lines if line.get_label() == "mean of 5 years"
    ).get_ydata()
    expected = yearly.summarise().window(width=5)["tas"].values()
    known = np.isfinite(expected)
    np.testing.assert_allclose(smooth[np.isfinite(smooth)], expected[known], rtol=1e-5)
    with pytest.raises(UsageError, match="'4' is not an odd number of steps"):
        Series(smooth=4)


def mean_values(data):
    values = data["tas"].values().astype(float)
    edges = np.sin(np.radians(np.linspace(90, -90, values.shape[1] + 1)))
    weights = np.abs(np.diff(edges))[:, None] * np.ones(values.shape[2])
    held = np.isfinite(values)
    return (np.where(held, values, 0) * weights).sum(axis=(1, 2)) / (
        held * weights
    ).sum(axis=(1, 2))


def test_classes_are_drawn_in_words_from_dry_to_wet(rng):
    """One colour a class, brown to green, with its words beside it; the mean of classes is
    refused."""
    data = make_dataset(
        rng.gamma(2, 2, (30, 4, 6)),
        times=np.arange(30) * 365.25 + 180,
        lats=[0, 10, 20, 30],
        lons=np.arange(6) * 10,
        name="pr",
        attributes={"units": "mm", "standard_name": "precipitation_amount"},
    )
    made = rhodolite.Index(classes=True, extremes="10%")(data)
    figure = rhodolite.Map(variable="pr_class", time="2005")(made)
    words = [label.get_text() for label in figure.axes[1].get_yticklabels()]
    assert (words[0], words[4], words[-1]) == (
        "Extremely dry",
        "Near normal",
        "Extremely wet",
    )
    driest, wettest = (figure.axes[0].collections[0].cmap(at) for at in (0, 8))
    assert driest[0] > driest[2]
    assert wettest[0] < wettest[2]
    with pytest.raises(
        DataError,
        match="holds classes, of which there is no mean; choose one of its 30 steps",
    ):
        rhodolite.Map(variable="pr_class")(made)


def test_curves_break_where_steps_are_missing(rng):
    times = np.array([0, 1, 2, 3, 10, 11, 12.0])
    data = make_dataset(rng.random((7, 1, 1)), times=times)
    line = rhodolite.Series()(data).axes[0].lines[0]
    assert np.isnan(line.get_ydata()).nonzero()[0].tolist() == [4]
    assert len(line.get_xdata()) == 8


def test_outside_of_a_region_is_blank_and_not_without_data(rng):
    data = make_dataset(
        rng.random((1, 20, 20)),
        times=[0],
        lats=np.arange(55, 75),
        lons=np.arange(4, 24),
    )
    cut = data.subset(region="Norway")
    for figure in (rhodolite.Map()(cut), rhodolite.Panels()(cut)):
        assert figure.axes[0].get_legend() is None
    whole = rhodolite.Map()(
        data.with_variables(
            v.replace(data=InMemory(np.where(np.arange(20) < 3, np.nan, v.values())))
            if v.name == "tas"
            else v
            for v in data.variables.values()
        )
    )
    assert [text.get_text() for text in whole.axes[0].get_legend().get_texts()] == [
        "no data"
    ]


@pytest.mark.parametrize("count", [1, 4, 12])
def test_titles_fit_and_legends_say_the_quantity(rng, count):
    """However long the words are, lines of a title end within the figure; units stay in one
    piece."""
    words = " ".join(["wide", "WWWW"] * count)
    data = make_dataset(
        rng.random((1, 4, 6)),
        times=[0],
        lats=[0, 10, 20, 30],
        lons=np.arange(6) * 10,
        attributes={"units": "kg m-2 s-1", "long_name": words},
    )
    figure = rhodolite.Map()(data)
    figure.draw_without_rendering()
    assert all(text.get_window_extent().x1 <= figure.bbox.x1 for text in figure.texts)
    label = figure.axes[1].get_xlabel() or figure.axes[1].get_ylabel()
    assert label.endswith("(kg\u00a0m⁻²\u00a0s⁻¹)")


@pytest.mark.slow
def test_panels_of_members_and_of_months(rng):
    data = make_dataset(
        rng.random((36, 3, 4)),
        times=np.arange(36) * 30.4375 + 15,
        lats=[0, 30, 60],
        lons=[0, 90, 180, 270],
    )
    figure = rhodolite.Panels(by="month")(data)
    places = [axes.get_subplotspec().colspan.start for axes in figure.axes[:12]]
    assert places == [0, 1, 2, 3] * 3
    member = stack_members([data, data], ["a", "b"])
    titles = [
        axes.get_title() for axes in rhodolite.Panels(by="member")(member).axes[:2]
    ]
    assert titles == ["a", "b"]


@pytest.mark.parametrize(
    ("name", "line"),
    [
        ("map", {"time": "2017"}),
        ("map", {"time": "2017-05", "projection": "north-polar"}),
        ("section", {"time": "2017"}),
        ("section", {"plane": "time-lat", "level": "500hPa"}),
        ("profile", {"time": "2017-03"}),
        ("profile", {"against": "lat", "level": "500hPa"}),
        ("series", {"level": "500hPa", "time": "2017"}),
        ("series", {"level": "500hPa", "at": "40N,10E"}),
        ("years", {"level": "500hPa"}),
        ("panels", {"by": "level", "time": "2017-01"}),
        ("panels", {"by": "year"}),
        ("animation", {"time": "2017", "every": 5}),
    ],
)
def test_what_a_picture_says_it_shows_is_in_it(demo, name, line):
    """Every number that is told of a picture is drawn in it, weighted as it is there."""
    data = rhodolite.read(demo / "pressure_monthly.nc").subset(variable="ta")
    if name in ("map", "animation") or line.get("by") == "year":
        data = data.subset(level="500hPa")
    step = all_drawings()[name](**line)
    figure = step(data)
    told = step.shown(data)["ta"].values()
    told = told[np.isfinite(told)]
    if name == "animation":
        drawn = figure.fields
    else:
        meshes = [part for axes in figure.axes for part in axes.collections]
        arrays = [part.get_array() for part in meshes]
        drawn = [np.ma.filled(array, np.nan) for array in arrays if array is not None]
        curves = [curve for axes in figure.axes for curve in axes.lines]
        drawn += [
            np.asarray(part, float) for curve in curves for part in curve.get_data()
        ]
    if name == "section":
        (sentence,) = sentences_of(step.shown(data), rhodolite.Engine())
        extremes = re.findall(r"(?:lowest|highest) is ([\d.]+) K", sentence)
        assert extremes == [f"{end:.4g}" for end in (told.min(), told.max())]
        assert "hPa, " in sentence or "level" in line
    numbers = np.sort(np.concatenate([np.ravel(part) for part in drawn]))
    numbers = numbers[np.isfinite(numbers)]
    assert told.size and numbers.size
    nearest = np.clip(np.searchsorted(numbers, told), 1, numbers.size - 1)
    apart = np.minimum(
        np.abs(numbers[nearest] - told), np.abs(numbers[nearest - 1] - told)
    )
    assert apart.max() <= 2e-6 * np.abs(told).max()


def test_curves_against_an_axis_of_their_own_have_limits_as_a_band(demo):
    """Return levels at their periods, with both limits; a spectrum with the noise behind it."""
    months = rhodolite.read(demo / "garnet_monthly_1981-2020.nc").subset(
        variable="pr", at="61N,9E"
    )
    years = months.aggregate(to="year", statistic="max")
    levels = years.extremes(periods="2,10,50", samples=100)
    (axes,) = rhodolite.Curve()(levels).axes
    (line,) = axes.lines
    np.testing.assert_allclose(line.get_xdata(), [2, 10, 50])
    expected = levels["pr_return_level"].values().ravel()
    np.testing.assert_allclose(line.get_ydata(), expected)
    band = axes.collections[0].get_paths()[0].vertices[:, 1]
    assert band.max() == pytest.approx(levels["pr_return_level_upper"].values().max())
    assert band.min() == pytest.approx(levels["pr_return_level_lower"].values().min())
    assert axes.get_xscale() == "log"
    assert rhodolite.Curve(linear=True)(levels).axes[0].get_xscale() == "linear"
    spectrum = months.anomaly().spectrum(method="welch")
    (axes,) = rhodolite.Curve(log=True)(spectrum).axes
    names = [line.get_label() for line in axes.lines]
    assert names == [
        "spectral density",
        "spectral density of red noise",
        "limit (95 %) of red noise",
    ]
    assert axes.get_yscale() == "log"
    with pytest.raises(DataError, match="no variable runs along an axis of its own"):
        rhodolite.Curve()(months)
    whole = rhodolite.read(demo / "garnet_monthly_1981-2020.nc").subset(lat="60N..65N")
    with pytest.raises(DataError, match="choose one with --at"):
        rhodolite.Curve()(whole.spectrum(harmonics=2))


def around_a_pole(cells, sign, reach=9.0e6):
    """A grid in the plane of an equal-area projection about a pole, with two-dimensional positions;
    four cells meet at the pole where their number is even."""
    edges = np.linspace(-reach, reach, cells + 1)
    plane = np.meshgrid(*[(edges[1:] + edges[:-1]) / 2] * 2)
    distance = np.hypot(*plane) / (2 * 6371e3)
    lat = sign * (90 - 2 * np.degrees(np.arcsin(np.minimum(distance, 1))))
    lon = np.degrees(np.arctan2(plane[0], -plane[1]))
    data = make_dataset(np.full((1, cells, cells), 280.0))
    positions = [
        Variable(name, ("lat", "lon"), InMemory(values), {"units": f"degrees_{way}"})
        for name, values, way in (("phi", lat, "north"), ("lambda", lon, "east"))
    ]
    return data.with_variables(
        [
            data["tas"].edit(coordinates="phi lambda"),
            *positions,
            data.variables["time"],
        ]
    )


@pytest.mark.parametrize("sign", [1, -1])
@pytest.mark.parametrize("cells", [12, 13])
def test_cells_that_meet_at_a_pole_cover_it(cells, sign):
    geometry = MapGeometry.of(around_a_pole(cells, sign))
    shapes = [
        shape
        for _, (east, north) in geometry.corners
        for shape in shapely.polygons(np.stack([east, north], axis=-1))
    ]
    whole = shapely.union_all(shapely.make_valid(np.array(shapes)))
    around = np.arange(0.5, 360, 3) + geometry.west
    for latitude in (89.99, 89, 86):
        inside = shapely.contains_xy(
            whole, around, np.full(around.size, sign * latitude)
        )
        assert inside.all(), (latitude, around[~inside])


@pytest.mark.parametrize(("sign", "name"), [(1, "north-polar"), (-1, "south-polar")])
def test_a_polar_map_ends_where_cells_are_left_out(sign, name):
    """Whatever else lies in the box of rows and columns that holds them."""
    data = around_a_pole(24, sign)
    lat = data["phi"].values()
    drawn = rhodolite.Map(projection=ProjectionName(name)).shown(data)
    geometry = MapGeometry.of(drawn, ProjectionName(name))
    edge = geometry.south if sign > 0 else -geometry.north
    left_out = (sign * lat)[sign * lat < 10].max()
    # 530 km from the middle to a corner, in a plane that is narrower there by cos(40 degrees).
    assert left_out + 4 < edge < left_out + 6.3
    assert (geometry.north if sign > 0 else geometry.south) == sign * 90
    centres = sign * geometry.mesh.centres[0]
    field = np.where(centres < 10, np.nan, 1.0)
    assert not geometry.lacks_data(field)
    field.flat[np.argmax(centres)] = np.nan
    assert geometry.lacks_data(field)


def months_of(years, hours=None):
    """A dataset of months, or of all hours of the first days of months, in the 360-day calendar."""
    times = np.arange(12 * years) * 30.0
    if hours is not None:
        times = (times[:, None] + (np.arange(hours) + 0.5) * 24 / hours / 24).ravel()
    else:
        times = times + 15
    values = 280 + np.sin(np.arange(times.size))[:, None, None] * np.ones((1, 2, 3))
    return make_dataset(values, times=times, calendar="360_day")


def test_months_of_one_year_are_shown_and_a_cycle_is_not_told_from_the_rest():
    figure = rhodolite.Panels(by="month")(months_of(1))
    titles = [axes.get_title() for axes in figure.axes]
    assert {"January", "December"} <= set(titles)
    with pytest.raises(rhodolite.DataError, match=r"has 1 .* leave it out"):
        rhodolite.Series(without_cycle=True)(months_of(1))


@pytest.mark.parametrize(
    ("cycle", "written"), [("month", r"[A-Z][a-z]{2}"), ("hour", r"\d\d:\d\d")]
)
@pytest.mark.parametrize("plot", ["series", "section"])
def test_the_axis_of_a_mean_cycle_names_no_year(cycle, written, plot):
    data = months_of(3, 4 if cycle == "hour" else None)
    normals = rhodolite.Climatology(cycle=cycle)(data)
    if plot == "series":
        figure = rhodolite.Series()(normals)
    else:
        figure = rhodolite.Section(plane="time-lat")(normals)
    figure.draw_without_rendering()
    texts = [label.get_text() for label in figure.axes[0].get_xticklabels()]
    assert texts and all(re.fullmatch(written, text) for text in texts), texts


@pytest.mark.parametrize("width", [480, 640, 1280])
def test_names_of_years_stay_within_the_picture(width):
    figure = rhodolite.YearOverlay(size=f"{width}x420")(months_of(6))
    figure.draw_without_rendering()
    frame = figure.legends[0].get_window_extent()
    assert frame.x0 >= 0 and frame.x1 <= figure.bbox.width


def test_a_caption_names_the_month_and_the_hour_of_a_phase():
    """As the table of the same normals does."""
    normals = rhodolite.Climatology(cycle="month+hour", min_years=1)(months_of(3, 4))
    for step in (0, 5, len(normals.need_time()) - 1):
        axis = take(normals, {"time": np.array([step])}).need_time()
        (label,) = time_labels(axis)
        assert ":" in label and " " in label
        assert period_text(axis).startswith(f"{label}, ")


@pytest.mark.parametrize(
    ("name", "line"),
    [
        ("map", {"time": "2017", "level": "500hPa"}),
        ("panels", {"by": "year", "level": "500hPa"}),
        ("series", {"level": "500hPa"}),
        ("section", {"plane": "time-lat", "level": "500hPa"}),
        ("profile", {"by": "time", "time": "2017"}),
    ],
)
def test_pictures_are_the_same_of_times_that_run_backwards(demo, name, line):
    data = rhodolite.read(demo / "pressure_monthly.nc").subset(variable="ta")
    backwards = take(data, {"time": np.arange(data.lengths["time"])[::-1]})
    told = []
    for part in (data, backwards):
        figure = all_drawings()[name](**line)(part)
        texts = [text.get_text() for text in figure.findobj(Text)]
        drawn = [c.get_array() for axes in figure.axes for c in axes.collections]
        curves = [c.get_ydata() for axes in figure.axes for c in axes.lines]
        told.append((texts, [np.ma.filled(part, np.nan) for part in drawn], curves))
    assert told[0][0] == told[1][0]
    for ours, theirs in zip(
        told[0][1] + told[0][2], told[1][1] + told[1][2], strict=True
    ):
        np.testing.assert_allclose(
            np.asarray(ours, float), np.asarray(theirs, float), rtol=1e-6
        )


def test_planes_and_curves_run_along_the_axes_that_there_are(demo):
    data = rhodolite.read(demo / "pressure_monthly.nc").subset(variable="ta")
    data = data.subset(time="2017")
    section, profile = all_drawings()["section"](), all_drawings()["profile"]()
    year, zonal = data.summarise(over="time"), data.summarise(over="lon")
    for part, plane, along in (
        (data, ("lat", "plev"), "plev"),
        (data.summarise(over="lat"), ("lon", "plev"), "plev"),
        (data.summarise(over="area"), ("time", "plev"), "plev"),
        (zonal.subset(level="500hPa"), ("time", "lat"), "lat"),
        (data.subset(level="500hPa").summarise(over="lat"), ("time", "lon"), "lon"),
        (year.subset(level="500hPa"), None, "lat"),
    ):
        for step, axes in ((section, plane), (profile, (along,))):
            if axes is not None:
                shown = step.shown(part)["ta"]
                long = zip(shown.dimensions, shown.shape, strict=True)
                assert {name for name, size in long if size > 1} >= set(axes)
                step(part)


@pytest.mark.parametrize("name", ["map", "section", "profile"])
def test_axes_that_a_picture_has_no_place_for_are_refused(name, rng):
    """Members or any axis of its own, with what to type; and data of which nothing is drawn."""
    values = rng.random((2, 3, 4, 5))
    axes = {
        "time": np.datetime64("2001-01-01") + np.arange(3),
        "lat": np.arange(4.0),
        "lon": np.arange(5.0),
    }
    settings = {"profile": {"against": "lat"}, "section": {"plane": "lon-time"}}
    for along, message in (("member", "2 members"), ("kind", "2 values along kind")):
        data = rhodolite.from_arrays(
            {"tas": values},
            {along: np.arange(2), **axes},
            units={"tas": "K", along: "1"},
        )
        step = all_drawings()[name](**settings.get(name, {}))
        with pytest.raises(DataError, match=message):
            step(data)
    nothing = rhodolite.from_arrays(
        {"tas": [1.0]}, {"kind": [1.0]}, units={"tas": "K", "kind": "1"}
    )
    with pytest.raises(DataError):
        all_drawings()[name](**settings.get(name, {}))(nothing)


RAIN = {"mm/day": 1.0, "mm/month": None, "kg m-2 s-1": 1 / 86400}


@pytest.mark.parametrize("first", RAIN)
@pytest.mark.parametrize("second", RAIN)
def test_curves_of_one_rain_in_two_units_are_one_curve(first, second):
    """As `convert` has it, by the days of each month and the density of water."""
    times = np.arange("2001-01", "2004-01", dtype="M8[M]")
    days = ((times + 1).astype("M8[D]") - times.astype("M8[D]")).astype(float)
    daily = 3 + np.sin(np.arange(times.size))
    ours, theirs = (
        rhodolite.from_arrays(
            {"pr": daily * (days if RAIN[units] is None else RAIN[units])},
            {"time": times.astype("M8[D]")},
            units={"pr": units},
        )
        for units in (first, second)
    )
    shown = Series(with_=theirs, trend=True)(ours)
    curves = [line for line in shown.axes[0].get_lines() if len(line.get_xdata()) == 36]
    whole, trend, other, its_trend = (line.get_ydata() for line in curves)
    np.testing.assert_allclose(other, whole, rtol=1e-12)
    np.testing.assert_allclose(its_trend, trend, rtol=1e-12)


def test_trends_of_curves_are_in_the_units_that_are_drawn():
    times = np.arange("1981", "2021", dtype="M8[Y]").astype("M8[D]")
    kelvins = 280 + np.arange(40) * 0.05
    ours, theirs = (
        rhodolite.from_arrays({"tas": values}, {"time": times}, units={"tas": units})
        for values, units in (
            (kelvins, "K"),
            ((kelvins - 273.15) * 1.8 + 32, "degF"),
        )
    )
    for first, second in ((ours, theirs), (theirs, ours)):
        figure = Series(with_=second, trend=True)(first)
        said = " ".join(text.get_text() for text in figure.texts).replace("\n", " ")
        assert said.count("+0.5 K per decade") == 2, said


def rain_of_a_year():
    """Return three members on a grid whose cells, months and members differ."""
    times = np.arange("2001-01", "2002-01", dtype="M8[M]").astype("M8[D]")
    months = np.arange(12.0)[:, None, None]
    rows = np.array([1.0, 10.0, 100.0])[:, None]
    values = np.stack([(months == 1) * rows * part + rows for part in (1, 2, 3)])
    return rhodolite.from_arrays(
        {"pr": np.broadcast_to(values, (3, 12, 3, 2))},
        {
            "member": [1, 2, 3],
            "time": times,
            "lat": [0.0, 40.0, 80.0],
            "lon": [0.0, 10.0],
        },
        units={"pr": "mm/day"},
    )


def test_means_of_levels_are_by_their_thickness(rng):
    data = rhodolite.from_arrays(
        {"ta": rng.random((5, 3, 2)) + np.arange(5.0)[:, None, None]},
        {"plev": [1000.0, 925, 850, 500, 100], "lat": [0.0, 40, 80], "lon": [0.0, 9]},
        units={"ta": "K", "plev": "hPa"},
    )
    expected = float(data.summarise().summarise(over="level")["ta"].values())
    (sentence,) = sentences_of(data.plain, default_engine())
    said = float(re.search(r": ([\d.]+) K on", sentence)[1])
    assert said == pytest.approx(expected, rel=1e-3)
    told = describe(data.plain, default_engine(), statistics=True)
    mean = told["variables"][0]["statistics"]["mean"]
    assert mean == pytest.approx(expected, rel=1e-9)


@pytest.mark.parametrize("over", [None, "area", "lon", "time", "ensemble"])
def test_means_in_sentences_are_those_of_summarise(over):
    data = rain_of_a_year()
    told = data if over is None else data.summarise(over=over)
    expected = data
    for axis in ("area", "time") + (("ensemble",) if over == "ensemble" else ()):
        expected = expected.summarise(over=axis)
    means = np.atleast_1d(expected["pr"].values())
    sentences = sentences_of(told.plain, default_engine())[: means.size]
    said = [float(re.search(r": ([\d.]+) mm/day on", s)[1]) for s in sentences]
    np.testing.assert_allclose(said, means, rtol=1e-3)
    if over != "ensemble":
        told = describe(told.plain, default_engine(), statistics=True)
        mean = told["variables"][0]["statistics"]["mean"]
        assert mean == pytest.approx(means.mean(), rel=1e-9)


def test_dates_are_told_as_dates():
    """In sentences, descriptions and beside the colours of a map, as they are in tables."""
    rng = np.random.default_rng(3)
    days = np.arange("2001-01-01", "2003-01-01", dtype="M8[D]")
    warm = 283 + 12 * np.sin(2 * np.pi * (np.arange(days.size) - 110) / 365.25)
    values = warm[:, None, None] + rng.normal(0, 1, (days.size, 2, 2))
    data = rhodolite.from_arrays(
        {"tas": values},
        {"time": days, "lat": [50.0, 52.0], "lon": [0.0, 2.0]},
        units={"tas": "K"},
    ).indicator(kind="growing-season-start", mean="tas", missing_days=10)
    name = "growing_season_start"
    dates = data.subset(variable=name)
    ordered = np.sort(data[name].values(), axis=None)
    origin = np.datetime64(str(data[name].units).split()[2])
    first, last = origin + ordered[[0, -1]].astype(int)
    (sentence,) = sentences_of(dates.plain, default_engine())
    assert f"the earliest is {first} (" in sentence
    assert f"the latest is {last} (" in sentence
    assert "average" not in sentence
    told = describe(dates.plain, default_engine(), statistics=True)
    numbers = told["variables"][0]["statistics"]
    assert (numbers["minimum"], numbers["maximum"]) == (str(first), str(last))
    frame = dates.to_pandas()[name]
    assert (frame.min(), frame.max()) == (
        pandas.Timestamp(first),
        pandas.Timestamp(last),
    )
    figure = Map(variable=name, time="2001")(data)
    labels = [t.get_text() for t in figure.axes[-1].get_yticklabels()]
    labels += [t.get_text() for t in figure.axes[-1].get_xticklabels()]
    assert any(label.startswith("2001-") for label in labels), labels


def test_curves_are_smoothed_and_rid_of_their_cycle_as_the_verbs_do_it(rng):
    """With gaps, in months of unequal length: the picture shows the numbers of the files."""
    times = np.arange("2001-01", "2009-01", dtype="M8[M]").astype("M8[D]")
    values = 280 + 9 * np.sin(np.arange(96) / 6 * np.pi)[:, None, None]
    values = values + rng.normal(0, 2, (96, 2, 2))
    values[[20, 21, 50]] = np.nan
    data = rhodolite.from_arrays(
        {"tas": values},
        {"time": times, "lat": [0.0, 60.0], "lon": [0.0, 10.0]},
        units={"tas": "K"},
    )
    series = data.summarise()
    window = series.window(width=5)["tas"].values()
    lines = Series(smooth=5)(data).axes[0].lines
    shown = next(ln for ln in lines if "mean of 5" in ln.get_label()).get_ydata()
    np.testing.assert_allclose(shown[~np.isnan(shown)], window[~np.isnan(window)])
    seasons = series.aggregate(to="season")
    of_seasons = seasons.anomaly(cycle="season")["tas"].values()
    line = Series(without_cycle=True)(seasons).axes[0].lines[1].get_ydata()
    level = line[np.isfinite(line)] - of_seasons[np.isfinite(of_seasons)]
    assert np.ptp(level) < 1e-9
    departures = series.anomaly()["tas"].values()
    mean = float(series.summarise(over="time", min_coverage=0)["tas"].values())
    rid = Series(without_cycle=True)(data).axes[0].lines[1].get_ydata()
    np.testing.assert_allclose(
        rid[~np.isnan(rid)], (departures + mean)[~np.isnan(departures)]
    )


def test_sites_and_regions_have_one_name_everywhere(tmp_path):
    """That which tells them apart, and not another text that is known of them."""
    rows = ["country,name,lat,lon", "Nor,Olm,50,0", "Nor,Ulv,51,3", "Sue,Ask,52,6"]
    (tmp_path / "sites.csv").write_text("\n".join(rows))
    times = np.arange("2001-01", "2003-01", dtype="M8[M]").astype("M8[D]")
    grid = rhodolite.from_arrays(
        {"tas": np.arange(24.0 * 9).reshape(24, 3, 3)},
        {"time": times, "lat": [50.0, 51, 52], "lon": [0.0, 3, 6]},
        units={"tas": "K"},
    )
    sites = grid.extract(points=tmp_path / "sites.csv")
    legend = Series()(sites).legends[0]
    assert [text.get_text() for text in legend.get_texts()] == ["Olm", "Ulv", "Ask"]
    told = sentences_of(sites.plain, default_engine())
    assert [re.search(r"\((\w+)\)", text)[1] for text in told] == ["Olm", "Ulv", "Ask"]
    significant = sites.trend()
    assert labels_along(significant.plain, "site") == ["Olm", "Ulv", "Ask"]
    unnamed = [v for v in sites.variables.values() if v.dimensions != ("site",)]
    nameless = sites.plain.with_variables(unnamed)
    assert labels_along(nameless, "site") == ["1", "2", "3"]
    features = [
        {
            "type": "Feature",
            "properties": {"basin": "B", "name": name},
            "geometry": {
                "type": "Polygon",
                "coordinates": [[[w, 49], [w + 3, 49], [w + 3, 53], [w, 49]]],
            },
        }
        for name, w in (("East", 3), ("West", 0))
    ]
    outlines = {"type": "FeatureCollection", "features": features}
    (tmp_path / "r.geojson").write_text(json.dumps(outlines))
    regions = grid.summarise(region=tmp_path / "r.geojson")
    legend = Series()(regions).legends[0]
    assert [text.get_text() for text in legend.get_texts()] == ["East", "West"]
    told = sentences_of(regions.plain, default_engine())
    assert [re.search(r"\((\w+)\)", text)[1] for text in told] == ["East", "West"]
    regions.write(tmp_path / "rain_{region}.csv")
    assert {p.name for p in tmp_path.glob("rain_*")} == {
        "rain_East.csv",
        "rain_West.csv",
    }


def test_sentences_tell_positions_of_curvilinear_grids(demo):
    data = rhodolite.read(demo / "rotated_monthly.nc").subset(time="2018-01")
    field = data.fields[0].name
    highest = data.fields[0].values()
    place = np.unravel_index(np.nanargmax(highest), highest.shape)[-2:]
    north = data["lat"].values()[place]
    (sentence, *_) = sentences_of(data.subset(variable=field).plain, default_engine())
    assert f"{north:.4f}N"[:6] in sentence.partition("highest")[2]


def test_sentences_name_phases_of_normals_and_cells_of_maps(demo):
    data = rhodolite.read(demo / "garnet_monthly_1981-2020.nc").subset(
        variable="tas", at="60N,10E"
    )
    (sentence,) = sentences_of(data.climatology().plain, default_engine())
    assert "(January, 1981-2020)" in sentence or "(February, 1981-2020)" in sentence
    rotated = rhodolite.read(demo / "rotated_monthly.nc").subset(time="2018-01")
    field = rotated.fields[0].name
    still = rotated.subset(variable=field, level="10m")
    still = still.summarise(over="time").summarise(over="level")
    (sentence,) = sentences_of(still.plain, default_engine())
    assert re.search(r"the highest is [^(]+\(\d\d\.\d+N, \d+\.\d+E\)", sentence), (
        sentence
    )
