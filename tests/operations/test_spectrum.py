"""Spectra against what is known of sines and of noise, and harmonics against least squares."""

from __future__ import annotations

import numpy as np
import pytest
import scipy.signal
import scipy.stats
from hypothesis import given, settings
from hypothesis import strategies as st

import rhodolite
from conftest import make_dataset, run_here
from rhodolite import Spectrum
from rhodolite.errors import DataError, UsageError
from rhodolite.kernels.spectra import limit_factor, multitaper, periodogram, welch


def months(values, units="K", **more):
    return make_dataset(
        values,
        times=np.arange(len(values)) * 30.0 + 15,
        calendar="360_day",
        attributes={"units": units} | more,
    )


def noise(seed, n=480, follows=0.0, cells=(2, 3)):
    rng = np.random.default_rng(seed)
    values = rng.normal(size=(n + 50, *cells))
    for step in range(1, len(values)):
        values[step] += follows * values[step - 1]
    return values[50:]


@settings(max_examples=6)
@given(st.integers(0, 10**6), st.sampled_from(["periodogram", "multitaper", "welch"]))
def test_a_spectrum_holds_the_variance_and_finds_a_wave(seed, method):
    values = noise(seed)
    wave = np.sin(2 * np.pi * np.arange(480) / 48)[:, None, None]
    result = Spectrum(method=method)(months(values + 5 * wave))
    frequency, power = result["frequency"].values(), result["tas_power"].values()
    assert result["tas_power"].units == "K2 year"
    peak = frequency[power.argmax(axis=0)]
    np.testing.assert_allclose(
        peak, 0.25, atol=0.1 if method != "periodogram" else 1e-9
    )
    if method == "periodogram":
        total = power.sum(axis=0) * frequency[0]
        np.testing.assert_allclose(total, (values + 5 * wave).var(axis=0), rtol=1e-9)
        direct = np.abs(np.fft.rfft(values + 5 * wave, axis=0)[1:]) ** 2
        ratio = power / direct
        np.testing.assert_allclose(ratio[:-1], 2 / (480 * 12), rtol=1e-8)


@settings(max_examples=10)
@given(st.integers(20, 61), st.integers(4, 20), st.integers(0, 10**6))
def test_spectra_are_those_of_scipy(n, segment, seed):
    """To eleven digits, for even and odd lengths; equal values have none."""
    values = noise(seed, n=n)
    about = {"fs": 12, "detrend": "constant", "axis": 0}
    whole = scipy.signal.periodogram(values, **about)
    cut = scipy.signal.welch(values, nperseg=segment, **about)
    windows = scipy.signal.windows.dpss(n, 2, 3)
    tapered = [scipy.signal.periodogram(values, window=w, **about) for w in windows]
    for ours, frequency, power in (
        (periodogram(values, 12), *whole),
        (welch(values, 12, segment), *cut),
        (multitaper(values, 12, 3), whole[0], np.mean([p for _, p in tapered], axis=0)),
    ):
        np.testing.assert_allclose(ours.frequency, frequency[1:], rtol=1e-14)
        np.testing.assert_allclose(ours.power, power[1:], rtol=1e-11, atol=1e-13)
        assert limit_factor(ours.freedom, 0.9) == pytest.approx(
            scipy.stats.chi2.ppf(0.9, ours.freedom) / ours.freedom, rel=1e-12
        )
    assert not welch(np.full((n, 2), 0.1), 12, segment).power.any()


@pytest.mark.parametrize("method", ["periodogram", "welch", "multitaper"])
@pytest.mark.parametrize("follows", [0.0, 0.7])
def test_noise_lies_above_its_limit_as_often_as_it_should(method, follows):
    values = noise(3, n=960, follows=follows, cells=(10, 20))
    result = Spectrum(method=method, confidence=0.9)(months(values))
    power, limit = result["tas_power"].values(), result["tas_limit"].values()
    above = (power > limit)[2:-2].mean()
    assert above == pytest.approx(0.1, abs=0.02)


@settings(max_examples=6)
@given(st.integers(0, 10**6), st.integers(1, 3))
def test_harmonics_are_those_of_least_squares(seed, count):
    """NumPy's solution of each cell by itself, with gaps; phases by the first maximum."""
    values = 10 + noise(seed, n=120)
    values[np.random.default_rng(seed).random(values.shape) < 0.1] = np.nan
    result = Spectrum(harmonics=count)(months(values))
    amplitude, day, share = (
        result[f"tas_{name}"].values() for name in ("amplitude", "day", "share")
    )
    fractions = (np.arange(120) * 30 + 15) / 360 % 1
    angles = [2 * np.pi * h * fractions for h in range(1, count + 1)]
    design = np.stack(
        [np.ones(120), *(f(a) for a in angles for f in (np.cos, np.sin))], 1
    )
    series = values[:, 1, 2]
    known = ~np.isnan(series)
    parts = np.linalg.lstsq(design[known], series[known], rcond=None)[0]
    for h in range(1, count + 1):
        a, b = parts[2 * h - 1 : 2 * h + 1]
        assert amplitude[h - 1, 1, 2] == pytest.approx(np.hypot(a, b), rel=1e-9)
        turned = design[:, 2 * h - 1] * a + design[:, 2 * h] * b
        expected = 100 * turned[known].var() / series[known].var()
        assert share[h - 1, 1, 2] == pytest.approx(expected, rel=1e-9)
        days = np.linspace(0, 360 / h, 20001)[:-1] / 360
        curve = a * np.cos(2 * np.pi * h * days) + b * np.sin(2 * np.pi * h * days)
        assert day[h - 1, 1, 2] == pytest.approx(360 * days[curve.argmax()], abs=0.1)


def test_harmonics_need_steps_that_tell_them_apart():
    """Two months a year, seasons for two of them, a quarter of the year for three; each with the
    jitter of leap years. What never changes has none, and no day."""
    days = np.arange(1461 * 3)
    for chosen, count, what in (
        (days[(days % 365.25 // 30.5 % 6) == 0][::30], 1, "2.* steps a year"),
        (days[::91], 2, "some 4.* steps a year, and 2 harmonics of the year need 5"),
        (days[::365], 1, "1 steps a year"),
        (days[:1], 1, "1 steps a year"),
        (days[days % 365.25 < 60], 1, "so small a part of the year"),
    ):
        with pytest.raises(DataError, match=what):
            Spectrum(harmonics=count)(make_dataset(noise(1, len(chosen)), times=chosen))
    seasons = make_dataset(noise(1, 40), times=np.arange(40) * 91.3)
    assert np.isfinite(Spectrum(harmonics=1)(seasons)["tas_amplitude"].values()).all()
    values = 283.15 + noise(4, 480)
    values[:, 1] = 283.15
    values[np.arange(480) % 12 > 1, 0, 0] = np.nan
    with pytest.warns(UserWarning, match="1 of 6 cells have no harmonics"):
        result = Spectrum(harmonics=2)(months(values))
        amplitude, day = result["tas_amplitude"].values(), result["tas_day"].values()
    assert not amplitude[:, 1].any()
    assert np.isnan(day[:, 1]).all()
    assert np.isnan(amplitude[:, 0, 0]).all()
    assert np.isfinite(day[:, 0, 1:]).all()


def test_a_user_asks_for_the_rhythm_of_a_series(tmp_path):
    months(noise(1), units="degF").write(tmp_path / "a.nc")
    for line in (
        "subset a.nc --at 0N,0E then spectrum --method welch --segment 120 -o s.csv",
        "spectrum a.nc -o s.nc",
        "subset s.nc --choose frequency=0.5..1.5 -o band.nc",
        "spectrum a.nc --harmonics 2 then draw panels --variable tas_amplitude -o h.png",
    ):
        answer = run_here(*line.split(), folder=tmp_path)
        assert answer.code == 0, answer.err
    table = (tmp_path / "s.csv").read_text().splitlines()
    assert table[0].startswith("frequency [year-1]")
    assert len(table) == 61
    band = rhodolite.read(tmp_path / "band.nc")
    assert (
        0.49
        < band["frequency"].values().min()
        < band["frequency"].values().max()
        < 1.51
    )
    assert band["tas_power"].units == "K2 year"


def test_gaps_and_uneven_times_have_no_spectrum():
    values = noise(2)
    values[3, 0, 0] = np.nan
    with pytest.warns(UserWarning, match="1 of 6 cells"):
        power = Spectrum()(months(values))["tas_power"].values()
    assert np.isnan(power[:, 0, 0]).all()
    assert np.isfinite(power[:, 0, 1]).all()
    times = np.delete(np.arange(480), 7) * 30.0
    uneven = make_dataset(values[1:], times=times, calendar="360_day")
    with pytest.raises(DataError, match="evenly apart"):
        Spectrum()(uneven)
    with pytest.raises(DataError, match="at least 16"):
        Spectrum()(months(values[:9]))
    for options in (
        {"segment": 30},
        {"harmonics": 9},
        {"tapers": 1},
        {"confidence": 1.5},
        {"method": "welch", "segment": 3},
    ):
        with pytest.raises(UsageError):
            Spectrum(**options)
