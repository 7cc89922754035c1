"""Databases."""
