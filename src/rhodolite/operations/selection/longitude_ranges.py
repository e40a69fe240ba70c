"""From a range of longitudes, which may be open at an end, to a way east."""

from __future__ import annotations

from rhodolite.arrays import Array
from rhodolite.kernels.sphere import shortest_turn
from rhodolite.model.space.extent import find_ends, increasing
from rhodolite.model.space.range_text import LongitudeRange


def find_way(
    wanted: LongitudeRange, longitudes: Array, *, goes_round: bool
) -> tuple[float, float]:
    """Return where a range begins, and how far it reaches to the east.

    An open end is that of the data. What lies nearer to the other end than to it, on the far side
    of the globe, is beyond: east of 40E nothing lies of data from 10E to 30E.

    Parameters
    ----------
    wanted : LongitudeRange
    longitudes : ndarray
        Those of the data, in degrees east, in any order and turn.
    goes_round : bool
        Whether the data go all the way round, so that they end where their numbers do.

    Returns
    -------
    tuple of float
        Degrees east, and degrees; these are below 0 where the data end before.

    Examples
    --------
    >>> from numpy import array
    >>> across = array([175.0, -180.0, -175.0])
    >>> find_way(LongitudeRange.parse("178E.."), across, goes_round=False)
    (178.0, 7.0)
    >>> find_way(LongitudeRange.parse("..170E"), across, goes_round=False)
    (175.0, -5.0)
    """
    first, last = increasing(*find_ends(longitudes))
    west, east = wanted.west, wanted.east
    if (west is None) == (east is None) or goes_round:
        west = first if west is None else west
        east = increasing(west, last)[1] if east is None else east
        return west, 360.0 if east - west >= 360.0 else (east - west) % 360.0
    middle, half = (first + last) / 2, (last - first) / 2
    if east is None:
        assert west is not None
        return west, half - shortest_turn(west - middle)
    width = half + shortest_turn(east - middle)
    # Where the numbers begin anew on the way, they end as the range was written.
    return (first - 360.0 if first + width >= 360.0 else first), width
