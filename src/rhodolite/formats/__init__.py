"""Reading and writing files in open formats, one module or package a format."""
