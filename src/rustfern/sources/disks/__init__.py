"""Disks: containers, tables of volumes, and file systems, read directly and never mounted."""
