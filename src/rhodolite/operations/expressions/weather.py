"""Functions of formulas that are of weather: each takes values in units of its own."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from rhodolite.arrays import Array, InMemory
from rhodolite.errors import DataError
from rhodolite.kernels import evapotranspiration, humidity
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.time.calendar_days import first_days
from rhodolite.model.units.udunits import convertible
from rhodolite.model.variable import Storage, Variable
from rhodolite.operations.expressions.elements import Apply, Leaf, Program
from rhodolite.operations.expressions.values import Value
from rhodolite.operations.variables.latitudes import latitudes_of

_CELSIUS, _FAHRENHEIT = "degC", "degF"


@dataclass(frozen=True)
class WeatherFunction:
    """A function of weather.

    Attributes
    ----------
    work : callable
    takes : tuple of str
        The units of its arguments.
    gives : str
        The units of its result.
    by_sun : bool
        Whether latitudes and days of the year follow the arguments.
    """

    work: Callable[..., Array]
    takes: tuple[str, ...]
    gives: str
    by_sun: bool = False


WEATHER = {
    "saturation_pressure": WeatherFunction(
        humidity.saturation_pressure, (_CELSIUS,), "hPa"
    ),
    "dew_point": WeatherFunction(humidity.dew_point, (_CELSIUS, "%"), _CELSIUS),
    "relative_humidity": WeatherFunction(
        humidity.relative_humidity, (_CELSIUS, _CELSIUS), "%"
    ),
    "specific_humidity": WeatherFunction(
        humidity.specific_humidity, (_CELSIUS, "hPa"), "1"
    ),
    "vapour_pressure_deficit": WeatherFunction(
        humidity.vapour_pressure_deficit, (_CELSIUS, "%"), "hPa"
    ),
    "wet_bulb": WeatherFunction(humidity.wet_bulb, (_CELSIUS, "%"), _CELSIUS),
    "heat_index": WeatherFunction(humidity.heat_index, (_FAHRENHEIT, "%"), _FAHRENHEIT),
    "wind_chill": WeatherFunction(humidity.wind_chill, (_CELSIUS, "km h-1"), _CELSIUS),
    "hargreaves": WeatherFunction(
        evapotranspiration.hargreaves,
        (_CELSIUS, _CELSIUS),
        "mm day-1",
        by_sun=True,
    ),
    "penman_monteith": WeatherFunction(
        evapotranspiration.penman_monteith,
        (_CELSIUS, _CELSIUS, "MJ m-2 day-1", "m s-1", "kPa", "kPa"),
        "mm day-1",
    ),
}
"""By the names that formulas use."""


def weather_value(
    name: str,
    values: list[Value],
    convert: Callable[[Value, str, bool], Value],
    add_leaf: Callable[[Variable], Leaf],
    dataset: Dataset,
) -> Value:
    """Return the value of a function of weather.

    Parameters
    ----------
    name : str
    values : list of Value
        Its arguments.
    convert : callable
        Brings a value to other units.
    add_leaf : callable
        Returns the place of a variable among the leaves of the formula.
    dataset : Dataset

    Raises
    ------
    DataError
        If an argument has other units, or there are no latitudes or times where they are needed.
    """
    function = WEATHER[name]
    programs: list[Program] = []
    for value, units in zip(values, function.takes, strict=True):
        if value.plain:
            programs.append(value.program)
            continue
        if value.difference and units in (_CELSIUS, _FAHRENHEIT):
            raise DataError(
                f"--formula: {name} takes temperatures, and not a difference of them"
            )
        if not convertible(value.units, units):
            raise DataError(
                f"--formula: {name} takes {', '.join(function.takes)}, and {value.units} cannot be "
                f"converted to {units}"
            )
        programs.append(convert(value, units, False).program)
    if function.by_sun:
        programs += [add_leaf(leaf) for leaf in _sun(name, dataset)]
    return Value(Apply(function.work, tuple(programs)), function.gives)


def _sun(name: str, dataset: Dataset) -> tuple[Variable, Variable]:
    """Return the latitudes, and the day of the year in the middle of each step."""
    latitudes = latitudes_of(dataset)
    time = dataset.coordinate(Role.TIME)
    if latitudes is None or time is None:
        lacking = "latitudes" if latitudes is None else "times"
        raise DataError(
            f"--formula: {name} needs {lacking}, which {dataset.label} does not have"
        )
    axis = dataset.need_time()
    days = axis.day_numbers - first_days(axis.years * 12, axis.calendar) + 1.0
    if axis.calendar == "360_day":
        days = (days - 0.5) * 365 / 360 + 0.5
    along = () if time.dimension is None else (time.dimension,)
    numbers = InMemory(np.asarray(days).reshape(-1 if along else ()))
    # They are exact, and must not make a result of single precision one of double.
    single = Storage(dtype="float32")
    return (
        latitudes.replace(storage=single),
        Variable("day_of_year", along, numbers, {}, single),
    )
