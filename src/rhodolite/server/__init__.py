"""Datasets over HTTP: one module for each protocol, all over the same small view of a dataset.

`served` is that view, `limits` says what a request may ask for, `app` puts protocols under their
addresses. `layers` and `grid` find fields and cells, `rendering` makes pictures of them and
`coverages` answers of series and boxes. A protocol reads named slices from a `Served` and writes
bytes; it never opens a file.
"""
