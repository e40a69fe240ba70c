"""The values of the bands of a GeoTIFF, read window by window."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from rhodolite.arrays import Array, LazyArray, Region
from rhodolite.errors import DataError
from rhodolite.formats.cf.decode import Decoding
from rhodolite.formats.geotiff.library import library, open_file

_CHUNK_CELLS = 1 << 18
"""Up to which rows that are stored one by one are read together."""


class BandsArray(LazyArray):
    """Values of bands, shape (places along the dimensions of the bands, rows, columns).

    Parameters
    ----------
    path : Path
    bands : ndarray of int
        Numbers of the bands.
    cells : tuple of int
        Rows and columns.
    block : tuple of int
        Rows and columns that are stored together.
    decoding : Decoding
    masked : bool
        Whether the file marks cells without a value beside the values.
    """

    def __init__(
        self,
        path: Path,
        bands: Array,
        cells: tuple[int, int],
        block: tuple[int, int],
        decoding: Decoding,
        masked: bool,
    ) -> None:
        self.path = path.resolve()  # since another process may run in another folder
        self.shape = (*bands.shape, *cells)
        rows = max(block[0], min(cells[0], _CHUNK_CELLS // max(block[1], 1)))
        whole_rows = block[1] >= cells[1]
        self.chunks = (
            *(1,) * bands.ndim,
            min(rows if whole_rows else block[0], cells[0]),
            min(block[1], cells[1]),
        )
        self._bands, self._decoding, self._masked = bands, decoding, masked
        self.dtype = (
            np.dtype("f8")
            if masked and decoding.target.kind != "f"
            else decoding.target
        )

    @property
    def origin(self) -> str:
        return f"{self.path}"

    def read(self, region: Region) -> Array:
        upper, (rows, columns) = region[:-2], region[-2:]
        bands = self._bands[upper]
        window = library().windows.Window(
            columns.start,
            rows.start,
            columns.stop - columns.start,
            rows.stop - rows.start,
        )
        with open_file(self.path) as file:
            chosen = [int(band) for band in bands.ravel()]
            raw = file.read(chosen, window=window)
            gaps = file.read_masks(chosen, window=window) == 0 if self._masked else None
        if raw.shape[0] != bands.size:
            raise DataError(f"{self.path}: bands are missing that were there before")
        values = self._decoding.decode(raw).astype(self.dtype, copy=False)
        if gaps is not None:
            values[gaps] = np.nan
        return values.reshape(*bands.shape, *values.shape[1:])
