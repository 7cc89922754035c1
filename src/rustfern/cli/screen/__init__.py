"""How answers look in a terminal."""
