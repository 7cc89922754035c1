"""Recognising traces: one module a kind. Each takes bytes and returns frozen facts, or raises `Malformed`."""
