"""Pictures, checked to every coded block where their format allows it."""
