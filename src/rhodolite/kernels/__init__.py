"""The mathematics: NumPy arrays in, NumPy arrays out. Knows nothing of datasets."""
