"""Statistics in place of axes: which axes and weights, and the arrays that compute them.

`plan` decides, `reduce` computes, `area_mean` has means over area and time alone.
Never reads options, which `summarise` and drawings do.
"""
