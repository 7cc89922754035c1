"""Pictures that are cut off or have holes: rows and blocks that can be had, the rest in grey."""
