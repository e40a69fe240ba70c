"""The signals put into the made-up world, so that what is found can be held against them."""

SIGNALS = {
    "garnet": "tas: warming of 0.10 + 0.40 sin(lat)^2 K per decade, counted from the middle of the "
    "record; "
    "yearly cycle three times as large on land as at sea; no data within 35S..20S, 70E..95E",
    "nordic": "tas: warming of 0.5 K per decade, counted from 2009; the winter of 2014 (December "
    "2013 to "
    "February 2014) warmer by 3.0 K at 0E, falling evenly to 0 K at 40E",
    "pressure": "ta: falls by 6.5 K per km up to 11 km, as of the standard atmosphere; ua: jets of "
    "30 m s-1 at 200 hPa "
    "over 40N and 40S",
    "rotated": "ta: falls by 6.5 K per km of height and by 0.6 K per degree of latitude",
    "hourly": "pr: showers twice as strong at 15 UTC as on average, none at 03 UTC; a front "
    "crosses from west to east "
    "at 1 degree an hour from 10 October 2018, 00 UTC",
    "models": "tas: the globe warms by {warming} K per decade from 1981; "
    "pr: grows by {wetter} percent per K of that warming",
}
