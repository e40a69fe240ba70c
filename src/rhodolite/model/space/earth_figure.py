"""The sphere or ellipsoid that latitudes and longitudes are on, where a grid mapping says it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple, Self

import numpy as np

from rhodolite.arrays import InMemory
from rhodolite.model.dataset import Dataset
from rhodolite.model.variable import Variable


class EarthFigure(NamedTuple):
    """A sphere or an ellipsoid of revolution.

    Parameters
    ----------
    radius : float
        In metres; of the equator where it is an ellipsoid.
    inverse_flattening : float
        0 for a sphere.
    """

    radius: float
    inverse_flattening: float = 0.0

    @classmethod
    def of(cls, dataset: Dataset) -> Self | None:
        """Return the figure that the grid mappings of a dataset name (CF appendix F); None where
        they name none, or several."""
        figures = {
            figure
            for variable in dataset.variables.values()
            if "grid_mapping_name" in variable.attributes
            and (figure := cls._named(variable.attributes)) is not None
        }
        return figures.pop() if len(figures) == 1 else None

    @classmethod
    def _named(cls, about: Mapping[str, Any]) -> Self | None:
        def number(key: str) -> float:
            try:
                return float(np.asarray(about.get(key, np.nan)).reshape(-1)[0])
            except (ValueError, TypeError, IndexError):
                return float("nan")

        sphere, major = number("earth_radius"), number("semi_major_axis")
        minor, inverse = number("semi_minor_axis"), number("inverse_flattening")
        if np.isfinite(sphere):
            return cls(sphere)
        if not np.isfinite(major):
            return None
        if np.isfinite(inverse):
            return cls(major, inverse)
        if not np.isfinite(minor) or minor == major:
            return cls(major)
        return cls(major, major / (major - minor))

    def grid_mapping(self, name: str) -> Variable:
        """Return the variable that says that latitudes and longitudes are on this figure."""
        about: dict[str, Any] = {"grid_mapping_name": "latitude_longitude"}
        if self.inverse_flattening:
            about |= {
                "semi_major_axis": self.radius,
                "inverse_flattening": self.inverse_flattening,
            }
        else:
            about["earth_radius"] = self.radius
        return Variable(name, (), InMemory(np.int32(0)), about)

    def well_known_text(self) -> str:
        """Return the geographic coordinate system as text (OGC 01-009), in the form that GIS
        programs read beside text grids."""
        name = "Ellipsoid" if self.inverse_flattening else "Sphere"
        if self == WGS_84:
            name = "WGS_1984"
        flattening = f"{self.inverse_flattening:.12g}"
        return (
            f'GEOGCS["GCS_{name}",DATUM["D_{name}",SPHEROID["{name}",{self.radius:.12g},'
            f'{flattening}]],PRIMEM["Greenwich",0],UNIT["Degree",0.0174532925199433]]'
        )


WGS_84 = EarthFigure(6378137.0, 298.257223563)
"""The ellipsoid that maps of the world are on, where nothing else is said."""
