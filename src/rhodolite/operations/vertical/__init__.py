"""Levels: heights and pressures of a dataset, new levels, and arrays interpolated to them.

Pressures of hybrid and sigma levels are computed from formula terms (CF appendix D).
Never extrapolates unless it is asked to.
"""
