"""Commands on the demo data that show each verb; help, reference and manual page have them."""

from __future__ import annotations

_DAYS = "'demo/nordic_daily_*.nc'"
_MONTHS = "demo/garnet_monthly_1981-2020.nc"
_LEVELS = "demo/pressure_monthly.nc"
_HILLS = "demo/rotated_monthly.nc"

EXAMPLES: dict[str, tuple[str, ...]] = {
    "inspect": (
        f"inspect {_DAYS}",
        f"inspect {_LEVELS} --variable ta",
        f"inspect {_MONTHS} --statistics --json",
    ),
    "check": (f"check {_LEVELS}", f"check {_DAYS} --values"),
    "join": (
        f"join {_DAYS} -o nordic.toml",
        f"join {_LEVELS} -o pressure.zarr --chunks series",
    ),
    "build": ("build demo/snow --description demo/snow.toml -o snow.nc",),
    "subset": (
        f"subset {_DAYS} --variable tas --lat 60N..70N --time 2014-01 -o january.nc",
        f"subset {_LEVELS} --level 850hPa --at 64.1N,21.9W -o cell.csv",
        f"subset {_MONTHS} --region Norway --months nov..mar -o winters.nc",
    ),
    "extract": (
        "extract demo/nordic_daily_2018.nc --points demo/reservoirs.csv -o reservoirs.csv",
        f"extract {_MONTHS} --points demo/reservoirs.csv --method bilinear --layout wide -o w.csv",
    ),
    "annotate": (
        f"annotate {_MONTHS} --rename tas=temperature -o renamed.nc",
        f"annotate {_MONTHS} --set ':title=Made-up months' --set 'pr:comment=rain' -o titled.nc",
    ),
    "convert": (
        f"convert {_MONTHS} --units tas=degC,pr='mm day-1' -o plain.nc",
        "convert demo/nordic_daily_2018.nc -o nordic_2018.zarr",
        f"convert {_MONTHS} --longitude -180..180 --latitude ascending -o turned.nc",
    ),
    "calc": (
        f"calc {_LEVELS} --formula 'speed(ua, va)' --name wind_speed -o wind.nc",
        f"calc {_MONTHS} --formula 'pr > 1[mm/day]' --name wet -o wet.nc",
    ),
    "aggregate": (
        f"aggregate {_DAYS} --to month -o months.nc",
        f"aggregate {_DAYS} --variable pr --to year --statistic count-above 10mm/day -o days.nc",
        "aggregate demo/rain_hourly.nc --to day --statistic sum --utc-offset +01:00 -o rain.nc",
    ),
    "window": (
        f"window {_DAYS} --variable pr --width 5days --statistic sum --align end -o five_days.nc",
        f"summarise {_MONTHS} --variable tas then window --width 12months -o running_year.csv",
    ),
    "accumulate": (
        f"accumulate {_DAYS} --variable pr --reset year --start oct -o running.nc",
    ),
    "climatology": (
        f"climatology {_MONTHS} --base 1991..2020 -o normal.nc",
        f"climatology {_DAYS} --cycle day --smooth 31 -o days_of_the_year.nc",
        f"climatology {_DAYS} --variable tas --cycle day --pool 5 --statistic p90 -o warm.nc",
    ),
    "anomaly": (
        f"anomaly {_MONTHS} --base 1991..2020 -o departures.nc",
        f"anomaly {_MONTHS} --variable pr --kind percent -o rain.nc",
        "anomaly demo/pyrope_future.nc --climatology demo/pyrope_historical.nc -o change.nc",
    ),
    "index": (
        f"index {_MONTHS} --variable pr --kind standardised --months 3 -o drought.nc",
        f"aggregate {_MONTHS} --variable pr --to year --statistic sum then index --classes -o i.nc",
    ),
    "indicator": (
        f"indicator {_DAYS} --kind GSL,Rx5day,R25mm,CDD -o indicators.nc",
        f"subset {_DAYS} --at 61N,9E then indicator --highest tas "
        "--kind 'heat-wave-days,TX90p' -o warm_days.csv",
    ),
    "extremes": (
        f"aggregate {_DAYS} --variable pr --to year --statistic max then extremes "
        "--min-values 10 --periods 20 -o rain_once_in_20_years.nc",
    ),
    "trend": (
        f"subset {_MONTHS} --variable tas --at 61N,9E then anomaly then trend",
        f"anomaly {_MONTHS} then trend --per decade --false-discovery -o trend.nc",
    ),
    "detrend": (f"detrend {_MONTHS} --variable tas --keep-mean -o level.nc",),
    "correlate": (
        f"correlate {_MONTHS} --variable pr --with {_MONTHS}:tas --cycle month -o together.nc",
    ),
    "composite": (
        f"anomaly {_MONTHS} --variable tas then composite --when 'mean(tas, area) > 0.3[K]' "
        "--against 'mean(tas, area) < -0.3[K]' -o warm_months.nc",
        f"anomaly {_MONTHS} --variable tas then composite --when 'mean(tas, area) > 0.3[K]' "
        "--test permutation --false-discovery -o against_all_others.nc",
    ),
    "patterns": (
        f"anomaly {_MONTHS} --variable tas then patterns --count 4 -o patterns.nc",
        f"anomaly {_MONTHS} --variable pr then patterns --with {_MONTHS}:tas -o pairs.nc",
    ),
    "spectrum": (
        f"subset {_MONTHS} --variable tas --at 61N,9E then anomaly then spectrum -o spectrum.csv",
        f"spectrum {_MONTHS} --variable pr --harmonics 2 -o rainy_seasons.nc",
    ),
    "adjust": (
        f"regrid demo/almandine_historical.nc --like {_MONTHS} then adjust --to {_MONTHS} "
        "-o adjusted.nc",
        f"regrid demo/almandine_future.nc --like {_MONTHS} then subset --time ..2020 then adjust "
        f"--to {_MONTHS} --method mean -o shifted.nc",
    ),
    "summarise": (
        f"summarise {_MONTHS} --region Norway,Sweden -o countries.csv --across region",
        f"summarise {_MONTHS} --latitude-bands 10 --statistic mean,max -o bands.nc",
        f"summarise {_LEVELS} --over level -o columns.nc",
    ),
    "regrid": (
        f"regrid {_MONTHS} --to 5 -o coarse.nc",
        f"regrid {_MONTHS} --like {_HILLS} --method bilinear -o hills.nc",
    ),
    "relevel": (f"relevel {_LEVELS} --to 900hPa,600hPa -o levels.nc",),
    "compare": (
        f"regrid demo/pyrope_historical.nc --like {_MONTHS} then compare --with {_MONTHS}",
    ),
    "draw map": (
        f"draw map {_MONTHS} --variable tas --time 2014-01 -o january.png",
        f"draw map {_MONTHS} --variable tas --time 2015 --projection equal-area -o globe.png",
    ),
    "draw panels": (
        f"draw panels {_MONTHS} --variable tas --by season -o seasons.png",
    ),
    "draw series": (
        f"draw series {_MONTHS} --variable tas --at 61N,9E --without-cycle --trend -o cell.png",
    ),
    "draw years": (
        f"subset {_DAYS} --variable pr --region Norway then summarise then draw years -o years.png",
    ),
    "draw curve": (
        f"subset {_MONTHS} --variable tas --at 61N,9E then anomaly then spectrum --method welch "
        "then draw curve --log -o spectrum.png",
        f"subset {_DAYS} --variable pr --at 61N,9E then extremes --above 98% --periods "
        "2,5,10,20,50 then draw curve -o levels.png",
    ),
    "draw profile": (
        f"draw profile {_LEVELS} --variable ta --at 60N,0E -o profile.png",
    ),
    "draw section": (
        f"draw section {_LEVELS} --variable ua --time 2018-01 --log -o jets.png",
    ),
    "draw animation": (
        f"draw animation {_HILLS} --level 10m --time 2017 --every 3 -o year.gif",
    ),
    "study": ("study demo/study.toml --into again --plan",),
    "retrace": (
        f"subset {_MONTHS} --time 2020 -o year.nc",
        "retrace year.nc",
    ),
    "serve": (f"serve {_MONTHS} {_LEVELS}",),
    "demo": ("demo demo", "demo demo --data-only"),
}
"""By verb, without the name of the program. They need nothing but the demo data, beside which they
are run."""
