"""From what people ask for to indices: ranges, positions, times, levels, regions.

`indices` for axes, `curvilinear` for two-dimensional grids and sites, `region_mask` for outlines.
Never changes a value, except to missing outside a region.
"""
