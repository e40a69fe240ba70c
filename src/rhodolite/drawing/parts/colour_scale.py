"""Colours that suit the quantity: in order for amounts, from a pivot for departures."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from rhodolite.drawing.options import Limits
from rhodolite.model.cf.diverging import pivots
from rhodolite.model.cf.vocabulary import WATER_WORDS
from rhodolite.model.units.udunits import is_temperature
from rhodolite.model.variable import Variable

BLUE, ORANGE = "#0072B2", "#D55E00"
LINE_COLOURS = (BLUE, ORANGE, "#009E73", "#CC79A7", "#E69F00", "#56B4E9", "#000000")
"""Colours that people with any form of colour vision tell apart (Okabe and Ito 2008)."""
_WATER_WORDS = (*WATER_WORDS, "snow", "humidity", "evaporation", "moisture", "water")
_STEPS = [1, 2, 2.5, 5, 10]
_CLASSES = 16


@dataclass(frozen=True)
class Scale:
    """How values become colours.

    Attributes
    ----------
    palette : str
        Name of a Matplotlib colour map.
    edges : ndarray
        Limits of the classes, ascending.
    extend : {"neither", "min", "max", "both"}
        Whether values lie beyond the outermost.
    """

    palette: str
    edges: NDArray[np.float64]
    extend: str


def palette_for(variable: Variable, diverging: bool) -> str:
    """Return the palette that suits a quantity.

    Parameters
    ----------
    variable : Variable
    diverging : bool
        Whether values lie on both sides of a centre.
    """
    words = (
        f"{variable.attributes.get('standard_name', '')} {variable.quantity}".lower()
    )
    watery = any(word in words for word in _WATER_WORDS)
    warm = "temperature" in words or (
        variable.units is not None and is_temperature(variable.units)
    )
    if watery:
        return "BrBG" if diverging else "YlGnBu"
    if warm:
        return "RdBu_r" if diverging else "plasma"
    return "PuOr_r" if diverging else "viridis"


def choose_scale(
    values: NDArray[Any],
    variable: Variable,
    palette: str | None,
    limits: Limits | None,
    centre: float | None,
) -> tuple[Scale, float | None]:
    """Return the scale for a field by what was asked for, and the pivot: zero for departures where
    none was.

    Parameters
    ----------
    values : ndarray
    variable : Variable
    palette : str, optional
        Name of a Matplotlib colour map.
    limits : Limits, optional
        Range that was asked for.
    centre : float, optional
        Value at the centre of the colour map.
    """
    centre = 0.0 if centre is None and pivots(variable) else centre
    ends = (limits.low, limits.high) if limits else (None, None)
    return scale_for(values, variable, palette, ends, centre), centre


def scale_for(
    values: NDArray[Any],
    variable: Variable,
    palette: str | None,
    limits: tuple[float | None, float | None],
    centre: float | None,
) -> Scale:
    """Choose palette, class limits and pivot for a field.

    Without limits the classes span all but the outermost half percent of the values at each end.

    Parameters
    ----------
    values : ndarray
    variable : Variable
    palette : str, optional
        Name of a Matplotlib colour map.
    limits : tuple[float or None, float or None]
    centre : float, optional
        Value at the centre of the colour map.
    """
    from matplotlib.ticker import MaxNLocator

    present = values[np.isfinite(values)]
    if centre is None and pivots(variable):
        centre = 0.0
    low, high = _ends(present, limits, centre)
    symmetric = centre == 0 and limits == (None, None)
    locator = MaxNLocator(_CLASSES, steps=_STEPS, symmetric=symmetric)
    edges = np.asarray(locator.tick_values(low, high))
    # Given ends are kept as they are; open ones fall on round numbers.
    if limits[0] is not None:
        edges = np.concatenate([[low], edges[edges > low]])
    if limits[1] is not None:
        edges = np.concatenate([edges[edges < high], [high]])
    under, over = bool((present < edges[0]).any()), bool((present > edges[-1]).any())
    extend = {
        (False, False): "neither",
        (True, False): "min",
        (False, True): "max",
        (True, True): "both",
    }[under, over]
    return Scale(palette or palette_for(variable, centre is not None), edges, extend)


def _ends(
    present: NDArray[Any],
    limits: tuple[float | None, float | None],
    centre: float | None,
) -> tuple[float, float]:
    """Return the ends of the colours: those given, and for others those of nearly all values."""
    low, high = 0.0, 1.0
    if present.size:
        low, high = (float(q) for q in np.quantile(present, [0.005, 0.995]))
    low = low if limits[0] is None else limits[0]
    high = high if limits[1] is None else limits[1]
    if centre is not None and limits == (None, None):
        # As far on either side, so that equal shades are equally far from the centre.
        reach = max(abs(high - centre), abs(low - centre))
        low, high = centre - reach, centre + reach
    if high > low:
        return low, high
    # A field of one value still needs a scale.
    margin = max(abs(low) * 1e-3, 0.5)
    return low - margin, low + margin


def colours(scale: Scale, centre: float | None) -> tuple[Any, Any]:
    """Return Matplotlib's colour map and norm for a scale; a pivot gets the middle of the
    palette.

    Parameters
    ----------
    scale : Scale
    centre : float, optional
        Value at the centre of the colour map.
    """
    import matplotlib
    from matplotlib.colors import BoundaryNorm, ListedColormap

    palette = matplotlib.colormaps[scale.palette]
    middles = (scale.edges[1:] + scale.edges[:-1]) / 2
    if centre is None:
        places = (
            np.linspace(0.0, 1.0, middles.size) if middles.size > 1 else np.array([0.5])
        )
    else:
        reach = max(abs(scale.edges[0] - centre), abs(scale.edges[-1] - centre))
        places = 0.5 + 0.5 * (middles - centre) / reach
    under, over = (
        palette(max(0.0, float(places[0]) - 0.04)),
        palette(min(1.0, float(places[-1]) + 0.04)),
    )
    shades = ListedColormap(palette(np.clip(places, 0, 1))).with_extremes(
        under=under, over=over
    )
    return shades, BoundaryNorm(scale.edges, middles.size)
