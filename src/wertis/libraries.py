"""Loads OpenCV and OpenImageIO, which write to the process's environment when they are loaded, and puts it back as it was."""

import os

_before = dict(os.environ)

import cv2  # noqa: E402
import OpenImageIO  # noqa: E402

for _name in set(os.environ) - set(_before):
    del os.environ[_name]
os.environ.update(_before)

__all__ = ["OpenImageIO", "cv2"]
