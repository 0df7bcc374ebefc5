"""Patches in the step Use: taken flat, painted, given back."""
