"""Where bytes come from. The only code that touches what is searched."""
