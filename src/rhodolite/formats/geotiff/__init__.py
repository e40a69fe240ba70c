"""GeoTIFF (OGC 19-008): maps as the bands of a picture that knows where it lies, by GDAL.

Bands are the times of one variable, or variables of their own, as their names and tags say. What is
written is optimised for the cloud (OGC 21-026): in tiles, with overviews.
"""

from rhodolite.formats.geotiff.reader import read
from rhodolite.formats.geotiff.writer import write

__all__ = ["read", "write"]
