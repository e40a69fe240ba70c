"""Files and stores that lie elsewhere, as files here that hold what was read of them so far.

Of a file a sparse copy is made: of the same size, with the parts that were fetched, so that
whatever reads files reads it. Of a store the metadata are copied, and chunks when they are read.
"""
