"""What each command does, without a word about how it looks."""
