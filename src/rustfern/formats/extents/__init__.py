"""Where a document ends, told by its own structure alone: for bytes that no file system has a record of."""
