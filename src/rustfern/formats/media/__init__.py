"""Recordings of sound and pictures."""
