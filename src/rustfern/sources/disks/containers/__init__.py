"""Containers: what an image file wraps around the bytes of a disk, one module a form."""
