"""Formats of text: tables, ASCII grids, and the dates in tables and in names of files.

Holds the packages `csv` and `ascii_grid`, and what they share.
Never guesses what a number means that a header or a description does not say.
"""
