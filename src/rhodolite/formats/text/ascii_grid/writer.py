"""Writing Esri ASCII grids, one file for each map."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas

from rhodolite.arrays import Array, Engine
from rhodolite.errors import DataError, UsageError
from rhodolite.formats.layout import Layout
from rhodolite.formats.text.ascii_grid.reader import USUAL_MISSING, Header
from rhodolite.formats.text.filename_pattern import DATE_FIELDS, FilePattern
from rhodolite.formats.whole_maps import iterate_maps
from rhodolite.model.axes import Role
from rhodolite.model.dataset import Dataset
from rhodolite.model.space.axis_cells import AxisShape
from rhodolite.model.space.earth_figure import WGS_84, EarthFigure
from rhodolite.model.variable import Variable

_SPACE = (Role.LATITUDE, Role.LONGITUDE)


def write(dataset: Dataset, path: Path, engine: Engine, layout: Layout) -> None:  # noqa: ARG001
    """Write each map of a dataset as a grid; the name of the output has places for what tells them
    apart.

    Raises
    ------
    DataError
        If the cells are not squares in degrees.
    UsageError
        If several maps would have the same name.
    """
    pattern = FilePattern(path.name)
    header = _header_of(dataset)
    engine.prepare([variable.data for variable in dataset.variables.values()])
    northward = (
        AxisShape.of(dataset.need(Role.LATITUDE).values).direction == "increasing"
    )
    # By this text a GIS places the grid.
    projection = (EarthFigure.of(dataset) or WGS_84).well_known_text() + "\n"
    space = [str(dataset.need(role).dimension) for role in _SPACE]
    written: set[str] = set()
    for variable in dataset.fields:
        for place, values in iterate_maps(variable, space, engine):
            name = pattern.fill(
                {"variable": variable.name, **_describe(dataset, place)}
            )
            if name in written:
                raise UsageError(_too_many(path, pattern, dataset, variable))
            written.add(name)
            grid = path.with_name(name)
            if variable.storage.dtype == "float32":
                # What was unpacked from 16 bits has no more figures than that.
                values = values.astype(np.float32)
            _write_grid(grid, header, values[::-1] if northward else values)
            grid.with_suffix(".prj").write_text(projection, encoding="ascii")


def _too_many(
    path: Path, pattern: FilePattern, dataset: Dataset, variable: Variable
) -> str:
    level = dataset.coordinate(Role.LEVEL)
    time = dataset.coordinate(Role.TIME)
    fields = [
        ("variable", len(dataset.fields) > 1),
        (
            "level",
            level is not None
            and level.dimension in variable.dimensions
            and level.values.size > 1,
        ),
        (
            "year}{month}{day",
            time is not None and time.dimension in variable.dimensions,
        ),
    ]
    wanted = "_".join(
        f"{{{name}}}"
        for name, there in fields
        if there and name.split("}")[0] not in pattern.fields
    )
    wanted = wanted or "{hour}{minute}"
    suggestion = path.with_name(f"{path.stem}_{wanted}{path.suffix}").name
    return (
        f"{path.name}: a file holds one map, and there are more; give each a name, such as "
        f"'{suggestion}'"
    )


def _header_of(dataset: Dataset) -> Header:
    rows, columns = dataset.need(Role.LATITUDE), dataset.need(Role.LONGITUDE)
    shapes = [AxisShape.of(coordinate.values) for coordinate in (rows, columns)]
    # A single row or column has no spacing of its own, and takes that of the other axis.
    spacings = [shape.spacing or np.nan for shape in shapes if shape.count > 1]
    square = bool(spacings) and np.ptp(spacings) <= 1e-6 * max(spacings)
    if not square:
        words = " and ".join(
            "unevenly" if np.isnan(spacing) else f"{spacing:g}" for spacing in spacings
        )
        raise DataError(
            "an ASCII grid has square cells of one size, and these lie "
            f"{words or 'a single cell'} degrees apart"
        )
    if shapes[1].direction != "increasing":
        raise DataError(
            "an ASCII grid runs from west to east; choose the area with --lon WEST..EAST first"
        )
    cell = float(spacings[0] or 0)
    south, west = (
        float(rows.values.min()) - cell / 2,
        float(columns.values.min()) - cell / 2,
    )
    return Header(
        columns.values.size,
        rows.values.size,
        round(west, 9),
        round(south, 9),
        cell,
        USUAL_MISSING,
        6,
    )


def _describe(dataset: Dataset, place: dict[str, int]) -> dict[str, int | str]:
    """Return what the name of a map's file can say of it."""
    described: dict[str, int | str] = {}
    time, level = dataset.coordinate(Role.TIME), dataset.coordinate(Role.LEVEL)
    if time is not None and dataset.time is not None:
        date = dataset.time.reference_dates[place.get(str(time.dimension), 0)]
        described |= {field: getattr(date, field) for field in DATE_FIELDS}
    if level is not None:
        described["level"] = f"{level.values[place.get(str(level.dimension), 0)]:g}"
    return described


def _write_grid(path: Path, header: Header, values: Array) -> None:
    missing = f"{header.missing:.0f}"
    lines = [
        f"ncols {header.columns}",
        f"nrows {header.rows}",
        f"xllcorner {header.west:.12g}",
        f"yllcorner {header.south:.12g}",
        f"cellsize {header.cell:.12g}",
        f"NODATA_value {missing}",
    ]
    with path.open("w", encoding="ascii", newline="\n") as file:
        file.write("\n".join(lines) + "\n")
        pandas.DataFrame(values).to_csv(
            file,
            sep=" ",
            header=False,
            index=False,
            na_rep=missing,
            lineterminator="\n",
        )
