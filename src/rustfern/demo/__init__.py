"""The demo customer's disk and what builds it."""
