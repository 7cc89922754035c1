"""Document formats: identified by content, glanced at, checked to their end. One module a family, one interface."""
