"""Outlines of coasts and countries, and which places lie inside them."""
