"""Archives, and packages that are archives."""
