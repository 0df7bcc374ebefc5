"""The step Repair."""
