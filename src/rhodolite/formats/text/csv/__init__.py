"""Tables as CSV (RFC 4180): one value per row, or one site or time per row; writes one value per
row."""

from rhodolite.formats.text.csv.reader import read
from rhodolite.formats.text.csv.writer import write

__all__ = ["read", "write"]
