"""Tests keep what a session keeps away from the person's own folders."""

import atexit
import os
import shutil
import tempfile

_STATE = tempfile.mkdtemp(prefix="wertis-tests-")
os.environ["XDG_STATE_HOME"] = _STATE
os.environ["XDG_CONFIG_HOME"] = os.path.join(_STATE, "config")
atexit.register(shutil.rmtree, _STATE, ignore_errors=True)
