"""How a Zarr store says what its arrays' dimensions are called."""

DIMENSIONS_ATTRIBUTE = "_ARRAY_DIMENSIONS"
"""Version 2 has no place of its own for the names of dimensions; programs agree on this attribute.

Version 3 has `dimension_names` in the metadata of an array."""
