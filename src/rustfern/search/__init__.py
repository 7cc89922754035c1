"""Where to look: homes, known places, the whole tree, recorded paths."""
