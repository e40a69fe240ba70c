"""Headers of many files: read in several processes, kept for the next time."""
