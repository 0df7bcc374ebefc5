"""Tests keep what a session keeps away from the person's own folders, and several of them share the machine's cores."""

import atexit
import os
import shutil
import tempfile

import cv2

_STATE = tempfile.mkdtemp(prefix="wertis-tests-")
os.environ["XDG_STATE_HOME"] = _STATE
os.environ["XDG_CONFIG_HOME"] = os.path.join(_STATE, "config")
atexit.register(shutil.rmtree, _STATE, ignore_errors=True)
cv2.setNumThreads(1)  # OpenCV's threads wait for each other where other tests run beside; Wertis' own stay as they are
