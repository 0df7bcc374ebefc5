"""Wertis: track surfaces in a shot, repair the track, and make graphics stick to it."""

__version__ = "0.1.0"
