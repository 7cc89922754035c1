"""NTFS: file records, attributes, packed streams, deleted records."""
