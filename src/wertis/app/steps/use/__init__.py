"""The step Use."""
