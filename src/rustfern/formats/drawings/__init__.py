"""Drawings and models."""
