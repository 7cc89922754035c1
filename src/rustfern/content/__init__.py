"""The content of a copy, whatever form it lies in: as it is, a part, a bundle, rebuilt."""
