"""Trends: slopes, tests, serial correlation, false discoveries, and the sentence about a series.

`estimators` runs the kernels on whole series or merged sums.
Never removes a cycle or changes the data.
"""
