"""A second, slow and plain implementation, which shares no code with the program; see `plain`."""
