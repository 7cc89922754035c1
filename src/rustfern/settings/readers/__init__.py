"""One module for each kind of settings file."""
