"""Tables as CSV (RFC 4180): one value a row, or one site or time a row; writes one value a row."""

from rhodolite.formats.text.csv.reader import read
from rhodolite.formats.text.csv.writer import write

__all__ = ["read", "write"]
