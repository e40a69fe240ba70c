"""From cells to other cells: weights, the arrays that apply them, target grids, stored weights.

The kernels of the weights are in `kernels`; the cells are `model.space.mesh`.
Never writes a file; weights become a dataset that the chain writes.
"""
