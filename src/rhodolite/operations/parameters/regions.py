"""Regions as people name them, and how much of each cell lies in them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from enum import StrEnum
from typing import TYPE_CHECKING, Any, Self

import numpy as np

from rhodolite.errors import DataError
from rhodolite.model.space.extent import Extent
from rhodolite.model.space.mesh import Mesh
from rhodolite.model.typed_value import FileReader, FileValue
from rhodolite.regions.outlined_area import Outline, join_by_name

if TYPE_CHECKING:
    from scipy import sparse


class CellChoice(StrEnum):
    """Which cells belong to an outlined area, and with which part of them."""

    FRACTION = "fraction"
    CENTRE = "centre"
    TOUCHED = "touched"


@dataclass(frozen=True)
class Regions(FileValue):
    """Outlined areas: `Norway,Sweden`, `land`, `sea`, `basin.geojson`, `basins.shp#Skarn`."""

    names: tuple[str, ...]
    opened: tuple[Outline, ...] | None = field(default=None, compare=False)

    repeats = True

    @classmethod
    def parse(cls, texts: str | Sequence[str]) -> Self:
        given = [texts] if isinstance(texts, str) else list(texts)
        names = [name.strip() for text in given for name in text.split(",")]
        if not all(names):
            raise ValueError(
                f"'{','.join(given)}' names no area; write a country, land, sea, or an outline FILE"
            )
        return cls(tuple(names))

    @classmethod
    def of(cls, data: Any) -> Self:
        """Return the area of a polygon of shapely, or of what has such an interface, in degrees
        east and north."""
        import shapely

        if not hasattr(data, "__geo_interface__"):
            return super().of(data)
        shapes = shapely.get_parts(shapely.geometry.shape(data))
        if not len(shapes) or {shape.geom_type for shape in shapes} != {"Polygon"}:
            raise ValueError(
                "a region is a polygon, or several, in degrees east and north"
            )
        name = "outline"
        return cls((name,), (Outline(name, shapes),))

    def texts(self) -> list[str]:
        return list(self.names)

    def __str__(self) -> str:
        return ",".join(self.names)

    def names_of_files(self) -> tuple[str, ...]:
        return self.names

    def renamed(self, rename: Callable[[str], str]) -> Self:
        return type(self).parse([rename(name) for name in self.names])

    @property
    def is_loaded(self) -> bool:
        return self.opened is not None

    def loaded(self, reader: FileReader) -> Self:
        if self.is_loaded:
            return self
        names = [outline for name in self.names for outline in reader.outlines(name)]
        return replace(self, opened=tuple(join_by_name(names)))

    @property
    def outlines(self) -> tuple[Outline, ...]:
        """The outlines of all regions, those of a file with several features one by one."""
        if self.opened is None:
            raise DataError(f"--region {self}: the outlines have not been read")
        return self.opened

    def weights(
        self, mesh: Mesh, cells: CellChoice, outlines: Sequence[Outline] | None = None
    ) -> sparse.csr_array:
        """Return the area (steradian) with which each cell counts in each area, shape (areas,
        cells).

        Raises
        ------
        DataError
            If an area covers no cell.
        """
        from scipy import sparse

        outlines = self.outlines if outlines is None else outlines
        whole = mesh.areas.reshape(-1)
        if cells is CellChoice.CENTRE:
            north, east = (part.reshape(-1) for part in mesh.centres)
            rows = [
                sparse.csr_array(np.where(area.holds(north, east), whole, 0.0)[None, :])
                for area in outlines
            ]
            matrix = sparse.csr_array(sparse.vstack(rows, format="csr"))
        else:
            matrix = mesh.without_slivers(mesh.covered_areas(outlines))
            if cells is CellChoice.TOUCHED:
                matrix.data = whole[matrix.indices]
        matrix.eliminate_zeros()
        for outline, count in zip(outlines, np.diff(matrix.indptr), strict=True):
            if not count:
                raise DataError(_misses(mesh, outline, cells))
        return matrix


def _misses(mesh: Mesh, outline: Outline, cells: CellChoice) -> str:
    import shapely

    if cells is CellChoice.CENTRE and mesh.covered_areas([outline]).nnz:
        return (
            f"--region: {outline.name} holds the centre of no cell; add --cells fraction or "
            "--cells touched"
        )
    west, south, east, north = shapely.total_bounds(outline.shapes)
    region, data = Extent(south, north, west, east), Extent.of(*mesh.centres)
    return (
        f"--region: {outline.name} ({region.words()}) covers no cell of the data "
        f"({data.words()})"
    )
