"""Where cells lie: edges of axes, meshes of cells, precision of places, and places as text.

`mesh` is the one idea of a horizontal cell; `mesh_of_dataset` finds it.
Never computes weights or statistics.
"""
