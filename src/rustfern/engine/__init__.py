"""Where independent pieces of work run."""
