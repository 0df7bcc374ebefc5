"""The log: what went wrong inside, with its traceback, in a file in the platform's place. Set up by the programs, never by importing."""

import logging
import logging.handlers
import sys
from pathlib import Path

import platformdirs

_NAME = "wertis"
_MOST = 1 << 20  # bytes of a log file; three are kept


def file() -> Path:
    """Where the log is."""
    return Path(platformdirs.user_log_dir("wertis", appauthor=False)) / "wertis.log"


def begin(verbose: bool = False) -> None:
    """Write what goes wrong to the log file from now on; with `verbose`, everything, and to standard error as well."""
    logger = logging.getLogger(_NAME)
    if logger.handlers:
        return
    logger.setLevel(logging.DEBUG if verbose else logging.WARNING)
    form = logging.Formatter("%(asctime)s %(levelname)s %(threadName)s %(name)s: %(message)s")
    handlers: list[logging.Handler] = []
    try:
        file().parent.mkdir(parents=True, exist_ok=True)
        handlers.append(logging.handlers.RotatingFileHandler(file(), maxBytes=_MOST, backupCount=2, encoding="utf-8", delay=True))
    except OSError:
        verbose = True  # a log that cannot be kept is shown
    if verbose:
        handlers.append(logging.StreamHandler(sys.stderr))
    for handler in handlers:
        handler.setFormatter(form)
        logger.addHandler(handler)
