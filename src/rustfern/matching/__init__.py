"""Finds become documents: each step of the linker in a module of its own."""
