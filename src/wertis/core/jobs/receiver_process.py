"""The receiver's stand-in as a process of its own, which rebuilds one frame after another."""

import json
import subprocess
import sys
import threading
from pathlib import Path
from types import TracebackType
from typing import Self

import numpy as np

from wertis.core.errors import DeliverError
from wertis.core.plate.sequence import read_picture

_WAIT = 120  # seconds that it may take for a frame


class ReceiverProcess:
    """Starts when it is first asked for a frame and ends with the `with` block.

    Parameters
    ----------
    folder : holds the plate's picture (plate.png) and takes what comes of it.
    """

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._process: subprocess.Popen[str] | None = None

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, why: BaseException | None, where: TracebackType | None) -> None:
        if self._process is not None:
            self._process.kill()
            self._process.communicate()

    def rebuilt(self, call: list[str]) -> tuple[np.ndarray, np.ndarray]:
        """The picture (h, w, 3) uint8 that it made of a file, called with these options, and the places (n, 2) that it read.

        Raises
        ------
        DeliverError
            When it cannot be run, or cannot use the file.
        """
        picture, places = self._folder / "theirs.png", self._folder / "places.json"
        said = self._ask([*call, "--plate", str(self._folder / "plate.png"), "--out", str(picture), "--places", str(places)])
        if said:
            raise DeliverError(f"The receiver could not use the file: {said}.")
        made = read_picture(picture)
        return np.repeat(made, 3, 2) if made.shape[2] == 1 else made[..., :3], np.array(json.loads(places.read_text()))

    def _ask(self, call: list[str]) -> str:
        """What it says is wrong; nothing where it did its work."""
        late = False
        try:
            if self._process is None:
                self._process = subprocess.Popen([sys.executable, "-m", "wertis_receiver", "--many"], stdin=subprocess.PIPE, stdout=subprocess.PIPE,
                                                 stderr=subprocess.DEVNULL, text=True)
            process = self._process
            assert process.stdin is not None and process.stdout is not None

            def give_up() -> None:
                nonlocal late
                late = True
                process.kill()

            timer = threading.Timer(_WAIT, give_up)
            timer.start()
            try:
                process.stdin.write(json.dumps(call) + "\n")
                process.stdin.flush()
                answer = process.stdout.readline()
            finally:
                timer.cancel()
            return str(json.loads(answer))
        except (OSError, ValueError) as why:
            self._process = None
            cause = f"it took longer than {_WAIT} s" if late else f"{why}"
            raise DeliverError(f"The receiver could not be run ({cause}); is wertis_receiver installed?") from why
