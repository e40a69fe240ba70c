"""Stored numbers and values of CF files: decoding, encoding, packing, projected coordinates.

Used by every format that stores arrays.
Never opens a file, and never decides how chunks are compressed.
"""
