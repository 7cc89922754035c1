"""Nouns, errors, times, path text and the observer: no input or output here, and nothing of ours imported from elsewhere."""
