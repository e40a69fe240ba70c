"""A step in degrees, as the value of an option, and the grid that it makes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Self

from rhodolite.model.typed_value import TypedValue
from rhodolite.plain_text import write_number


@dataclass(frozen=True)
class GridStep(TypedValue):
    """Width of cells in degrees: `1.0`, or `lat=1,lon=1.25`."""

    lat: float
    lon: float

    @classmethod
    def parse(cls, text: str) -> Self:
        example = f"'{text}' is not a step in degrees; write 1.0, or lat=1,lon=1.25"
        parts = [part.strip() for part in text.split(",")]
        try:
            if len(parts) == 1 and "=" not in text:
                steps = {"lat": float(text), "lon": float(text)}
            else:
                steps = {
                    name.strip(): float(value)
                    for name, _, value in (part.partition("=") for part in parts)
                }
        except ValueError:
            raise ValueError(example) from None
        if steps.keys() != {"lat", "lon"} or not all(
            0 < step <= limit
            for step, limit in ((steps["lat"], 180), (steps["lon"], 360))
        ):
            raise ValueError(example)
        return cls(steps["lat"], steps["lon"])

    def __str__(self) -> str:
        lat, lon = write_number(self.lat), write_number(self.lon)
        return lat if lat == lon else f"lat={lat},lon={lon}"
