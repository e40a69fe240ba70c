"""Spectra and harmonics of whole series."""
