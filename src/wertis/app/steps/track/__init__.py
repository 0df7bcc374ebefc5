"""The step Track."""
