"""Repair: what is left in a damaged document, written as a whole file of the same format, and what is lost. One module a format family."""
