"""HFS+ and HFSX."""
