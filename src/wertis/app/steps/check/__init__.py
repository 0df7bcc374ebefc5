"""The step Check."""
