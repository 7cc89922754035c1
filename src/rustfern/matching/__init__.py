"""Whose is it: facts and documents in, evidence and confidence out. Opens no file."""
