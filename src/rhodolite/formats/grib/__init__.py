"""GRIB, editions 1 and 2 (WMO Manual on Codes, FM 92), decoded by ecCodes.

A file is a list of messages, each with one map or several. They are found by their sections,
described by their keys, and put in order as variables along times, levels and members. Values are
decoded message by message, when they are needed.
"""

from rhodolite.formats.grib.reader import read

__all__ = ["read"]
