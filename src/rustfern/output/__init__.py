"""How files of ours come to be, and where: private, whole or not at all, never inside what is searched."""
