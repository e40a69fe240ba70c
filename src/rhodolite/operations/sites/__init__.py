"""Series at sites: which cells a site takes its values from, and the arrays that take them.

Holds the placing of sites on a grid and lazy arrays along the dimension `site`.
Never reads tables; those come as `Sites` from `operations.parameters`.
"""
