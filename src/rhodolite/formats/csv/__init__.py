"""Tables as CSV (RFC 4180): one value a row, or one site or time a row; writes one value a row."""

from rhodolite.formats.csv.reader import read
from rhodolite.formats.csv.writer import write

__all__ = ["read", "write"]
