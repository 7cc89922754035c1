"""From copies to the most recent intact one: the situation, the reasons, the ranking. Opens no file."""
