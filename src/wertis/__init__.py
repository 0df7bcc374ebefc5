"""Wertis: track surfaces in a shot, repair the track, and make graphics stick to it."""

import os

# The tracker's matrices are small: more threads in the linear algebra only get in each other's way. Set before NumPy is loaded.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

__version__ = "0.1.0"
