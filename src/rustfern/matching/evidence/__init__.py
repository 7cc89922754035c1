"""Facts → evidence and confidence. Opens no file; one table of weights."""
