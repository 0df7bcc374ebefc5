"""Errors that a person can meet.

Each one names the thing, the cause and what to do; the window and the command line show its text as it is.
"""

from collections.abc import Callable


class WertisError(Exception):
    """Something a person asked for cannot be done; the message says what to do instead."""


class PlateError(WertisError):
    """A plate, or one of its frames, cannot be read."""


class RegionError(WertisError):
    """A region or a placement cannot be used as it was drawn."""


class ShotFileError(WertisError):
    """A shot file cannot be read or written."""


class DeliverError(WertisError):
    """A render or an export cannot be written."""


def library_words(why: Callable[[], str]) -> str:
    """A library's own words for what went wrong; it may quote bytes of the file that are no text."""
    try:
        lines = why().strip().splitlines()
    except UnicodeDecodeError:
        return "its header is damaged"
    return lines[0] if lines else "unknown format"
