"""Applications' and systems' own settings, read offline: where copies go, what was open, how often it is saved."""
