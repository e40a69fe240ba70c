"""The full example on the demo data: questions, and the commands that answer them."""

from __future__ import annotations

NORDIC = "nordic_daily_*.nc"
GARNET = "garnet_monthly_1981-2020.nc"

EXAMPLE: tuple[tuple[str, str], ...] = (
    ("What is in the Nordic files?", f"inspect {NORDIC}"),
    ("Can others use the table of reservoirs as it is?", "check reservoirs.csv"),
    (
        "How do the text grids of snow become a file that explains itself?",
        "build snow --description snow.toml -o snow.nc",
    ),
    (
        "By how much did each day of 2012 to 2018 depart from normal, between 60N and 70N?",
        f"subset {NORDIC} --variable tas --lat 60N..70N --time 2012..2018 then anomaly --base "
        "2012..2016 -o nordic_anomaly.nc",
    ),
    (
        "Was the winter of 2014 warmer than normal, and where?",
        f"anomaly {NORDIC} --cycle season then subset --variable tas --season DJF --years 2014 "
        "then draw map -o winter_2014.png",
    ),
    (
        "How did that winter go, day by day?",
        f"anomaly {NORDIC} then subset --variable tas --time 2013-10..2014-04 then draw series -o "
        "winter_2014_days.png",
    ),
    (
        "What is the normal year of the globe?",
        f"climatology {GARNET} --base 1991..2020 -o garnet_normal.nc",
    ),
    (
        "What does its July look like?",
        "subset garnet_normal.nc --variable tas --months jul then draw map -o garnet_july.png",
    ),
    (
        "Does the globe warm?",
        f"anomaly {GARNET} --base 1981..2010 then draw series --variable tas -o garnet_warming.png",
    ),
    (
        "Where, and how fast?",
        f"anomaly {GARNET} then trend --false-discovery then draw map --variable tas_trend -o "
        "garnet_trend.png",
    ),
    (
        "How fast at 61N 9E, and how sure is that?",
        f"draw series {GARNET} --variable tas --at 61N,9E --without-cycle --trend -o "
        "cell_trend.png",
    ),
    (
        "Which years since 1981 were extremely dry in the catchment, by the rainfall anomaly "
        "index?",
        f"subset {GARNET} --variable pr then summarise --region catchment.geojson "
        "then aggregate --to year --statistic sum then index --extremes 10 then draw series --bars "
        "-o dry_years.png",
    ),
    (
        "How does the rain of the latest winter compare with all others at this date?",
        f"subset {NORDIC} --variable pr --region catchment.geojson then summarise then accumulate "
        "--start oct then draw years --start oct -o catchment_rain.png",
    ),
    (
        "What do the seasons of the globe look like?",
        f"draw panels {GARNET} --variable tas --by season --time 1991..2020 -o garnet_seasons.png",
    ),
    (
        "Where did more rain fall than normal in the winter of 2020?",
        f"anomaly {GARNET} --cycle season --base 1991..2020 --kind percent then subset --season "
        "DJF --years 2020 then draw map --variable pr -o garnet_rain.png",
    ),
    (
        "What were the mean and the wettest January at each reservoir?",
        f"subset {NORDIC} --variable pr --months jan then aggregate --to month --statistic sum "
        "then summarise --over time --statistic mean,max then convert --units pr_mean=mm,pr_max=mm "
        "then extract --points reservoirs.csv -o january_rain.csv",
    ),
    (
        "Where do the reservoirs lie in the cold of January 2018?",
        f"subset {NORDIC} --lat 58N..65N --lon 4E..16E then draw map --variable tas --time 2018-01 "
        "--points reservoirs.csv --region catchment.geojson -o reservoirs.png",
    ),
    (
        "What is the mean winter temperature of Norway and of the catchment in the four models, on "
        "one grid?",
        "regrid almandine_*.nc pyrope_*.nc spessartine_*.nc grossular_*.nc --members --to 5 then "
        "subset --variable tas then aggregate --to season --season DJF then summarise --region "
        "Norway --region catchment.geojson then summarise --over time -o winters.csv",
    ),
    (
        "How does temperature fall towards the north, at every height of the rotated grid?",
        "summarise rotated_monthly.nc --latitude-bands 2 then draw profile --against lat -o "
        "mountain_bands.png",
    ),
    (
        "Where and how high do the jets blow?",
        "draw section pressure_monthly.nc --variable ua --time 2018-01 --log -o jets.png",
    ),
    (
        "How strong is the jet in winter?",
        "draw map pressure_monthly.nc --variable ua --level 200hPa --time 2018-01 -o jet.png",
    ),
)
"""Pairs of a question and the words of a command; files are named as in the folder of the demo."""
