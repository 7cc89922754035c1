"""Documents without a record, sought in every byte that no living file claims."""
