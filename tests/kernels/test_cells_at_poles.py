"""Cells between great circles near poles: their areas, and what they share with others."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from conftest import EXAMPLES
from rhodolite.kernels.great_circles import unit_vectors
from rhodolite.kernels.spherical_cells import areas_of_cells, outlines_in_plane
from rhodolite.model.space.mesh import Mesh


def cells_about(turn, tilt, size, off, count=8):
    """Corners of square cells about a place, found by turning a patch of the equator: latitudes and
    longitudes of shape (cells, 4)."""
    places = (np.arange(count + 1) - count / 2 + off) * size
    patch = unit_vectors(*np.meshgrid(places, places, indexing="ij"))
    (c, s), (d, z) = (
        (np.cos(np.radians(part)), np.sin(np.radians(part))) for part in (turn, tilt)
    )
    about = np.array([[1, 0, 0], [0, c, -s], [0, s, c]])
    moved = patch @ (np.array([[d, 0, -z], [0, 1, 0], [z, 0, d]]) @ about).T
    north, east = (
        np.degrees(np.arcsin(moved[..., 2].clip(-1, 1))),
        np.degrees(np.arctan2(moved[..., 1], moved[..., 0])),
    )
    around = (slice(None, -1), slice(1, None))
    corners = [(0, 0), (0, 1), (1, 1), (1, 0)]
    return (
        np.stack([part[around[i], around[j]].reshape(-1) for i, j in corners], axis=-1)
        for part in (north, east)
    )


def spherical_excess(latitudes, longitudes):
    """Areas of quadrangles as two triangles each, by the formula of Van Oosterom and Strackee."""
    a, b, c, d = np.moveaxis(unit_vectors(latitudes, longitudes), -2, 0)

    def dot(first, second):
        return (first * second).sum(axis=-1)

    def of_triangle(p, q, r):
        top = np.abs(dot(p, np.cross(q, r)))
        return 2 * np.arctan2(top, 1 + dot(p, q) + dot(q, r) + dot(r, p))

    return of_triangle(a, b, c) + of_triangle(a, c, d)


@given(
    st.floats(0, 90),
    st.one_of(st.sampled_from([90.0, -90.0]), st.floats(-90, 90)),
    st.sampled_from([0.05, 0.5, 2.0]),
    st.sampled_from([0.0, 0.5, 0.3, 0.499999]),
)
def test_areas_of_cells_with_great_circles_as_edges_are_their_spherical_excess(
    turn, tilt, size, off
):
    """To 7 digits, a pole within a cell, on its edge and on its corner included."""
    latitudes, longitudes = cells_about(turn, tilt, size, off)
    points, cells = outlines_in_plane(latitudes, longitudes)
    x, y = points.T
    same = cells[1:] == cells[:-1]
    twice = (x[:-1] - x[1:]) * (y[:-1] + y[1:]) * same
    areas = np.abs(np.bincount(cells[1:], twice, minlength=len(latitudes))) / 2
    expected = spherical_excess(latitudes, longitudes)
    np.testing.assert_allclose(areas, expected, rtol=5e-8)
    np.testing.assert_allclose(
        areas_of_cells(latitudes, longitudes), expected, rtol=5e-8
    )


def test_a_cell_of_meridians_and_equator_is_an_eighth_of_the_sphere():
    points, _ = outlines_in_plane(
        np.array([[0.0, 0, 90, 90]]), np.array([[5.0, 95, 95, 5]])
    )
    assert area_of(points) == pytest.approx(np.pi / 2, rel=1e-14)
    corners = (
        np.array([[0.0, 0, 90, 90], [0, 0, np.nan, 90]]),
        np.array([[5.0, 95, 95, 5]] * 2),
    )
    for straight in (True, False):
        areas = areas_of_cells(*corners, straight=straight)
        np.testing.assert_allclose(areas, [np.pi / 2, 0], rtol=1e-14)


@pytest.mark.parametrize("off", [0.5, 0.0])
def test_a_pole_on_the_corner_or_the_edge_of_cells(off):
    """Four cells with a corner at the pole, and two with an edge through it, are alike."""
    places = np.array([-1.0, 0, 1]) * 0.5
    rows, columns = np.meshgrid(places, places + 0.25 * (off == 0), indexing="ij")
    north, east = 90 - np.hypot(rows, columns), np.degrees(np.arctan2(columns, rows))
    corners = [
        np.stack([p[:-1, :-1], p[:-1, 1:], p[1:, 1:], p[1:, :-1]], axis=-1).reshape(
            -1, 4
        )
        for p in (north, east)
    ]
    points, cells = outlines_in_plane(*corners)
    areas = [area_of(points[cells == cell]) for cell in range(4)]
    np.testing.assert_allclose(areas, spherical_excess(*corners), rtol=1e-8)


def area_of(ring):
    x, y = ring.T
    return abs(((x[:-1] - x[1:]) * (y[:-1] + y[1:])).sum()) / 2


@pytest.mark.slow
@settings(max_examples=EXAMPLES or 8)
@given(
    st.floats(0, 90),
    st.one_of(st.just(90.0), st.floats(80, 90)),
    st.sampled_from([0.5, 1.0, 2.0]),
    st.sampled_from([0.0, 0.5, 0.3, 0.45]),
)
@example(0.0, 88.0, 2.0, 0.0)
def test_areas_that_cells_at_a_pole_share_with_a_globe_are_integrals_along_meridians(
    turn, tilt, size, off
):
    """Within 1e-6 of a cell, the pole within one, on an edge and on a corner included."""
    latitudes, longitudes = cells_about(turn, tilt, size, off, count=2)
    corners = tuple(part.reshape(2, 2, 4) for part in (latitudes, longitudes))
    mesh = Mesh(("y", "x"), *(part.mean(axis=-1) for part in corners), corners=corners)
    tops, sides = np.linspace(66, 90, 9), np.linspace(-180, 180, 121)
    middles = (tops[1:] + tops[:-1]) / 2, (sides[1:] + sides[:-1]) / 2
    target = Mesh(("lat", "lon"), *middles, tops, sides)
    shared = mesh.shared_areas(target).toarray().reshape(*target.shape, mesh.size)
    for cell in range(mesh.size):
        expected = along_meridians(latitudes[cell], longitudes[cell], target)
        off_by = np.abs(shared[..., cell] - expected).max()
        assert off_by < 1e-6 * mesh.areas.flat[cell]


def along_meridians(north, east, target, times=1200):
    """Areas that a convex cell shares with cells of a globe: how much of each meridian it covers,
    times their distance. No part goes over the longitude of a corner, where that may jump."""
    cell = unit_vectors(north, east)
    normals = np.cross(cell, np.roll(cell, -1, axis=0))
    normals *= np.sign(normals[0] @ cell.mean(axis=0))
    columns = np.radians(target.longitude_edges)
    breaks = np.unique(np.concatenate([columns, np.radians(east)]))
    shares = (np.arange(times) + 0.5) / times
    around = (breaks[:-1, None] + np.diff(breaks)[:, None] * shares).reshape(-1)
    low, high = np.full(around.size, -np.pi / 2), np.full(around.size, np.pi / 2)
    for x, y, z in normals:
        flat = x * np.cos(around) + y * np.sin(around)
        if z >= 0:
            low = np.maximum(low, np.arctan2(-flat, z))
        else:
            high = np.minimum(high, np.arctan2(flat, -z))
    tops = np.radians(target.latitude_edges)[:, None]
    within = np.sin(np.clip(high, tops[:-1], tops[1:])) - np.sin(
        np.clip(low, tops[:-1], tops[1:])
    )
    parts = (
        np.where(high > low, within, 0.0)
        .reshape(len(tops) - 1, -1, times)
        .mean(axis=-1)
    )
    first = np.searchsorted(breaks, columns[:-1])
    return np.add.reduceat(parts * np.diff(breaks), first, axis=1)
