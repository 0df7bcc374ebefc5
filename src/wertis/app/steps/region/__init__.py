"""The step Region."""
