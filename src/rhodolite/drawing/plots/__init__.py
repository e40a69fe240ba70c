"""The pictures, one module per kind: map, panels, series, year overlay, profile, section, film.

Each is a declared class that draws a dataset with the parts of the room beside it.
Never writes a file, and never reads one.
"""
