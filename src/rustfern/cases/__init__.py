"""A technician's cases: one SQLite file each, its log, the name index, which one is in use."""
