"""The step Plate."""
