"""Patterns of a field: the passes by which its products, series and maps are found."""
