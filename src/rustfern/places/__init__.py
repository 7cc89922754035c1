"""Where applications and systems leave copies, locks and records: the catalogue, the homes, the search itself."""
