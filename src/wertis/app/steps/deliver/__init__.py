"""The step Deliver."""
