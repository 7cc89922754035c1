"""Plain texts, and texts with a grammar of their own."""
