"""The operations: one module each, declared once, found by the catalogue."""
