"""The work of making a matte sequence of what covers a tracked surface, for the steps that use one."""

from collections.abc import Callable, Iterator
from pathlib import Path

from PySide6.QtWidgets import QFileDialog

from wertis.app.long_work import Job
from wertis.app.workbench import Workbench
from wertis.core.blas import single_threaded
from wertis.core.jobs.events import Event, Stop
from wertis.core.jobs.occluder_mattes import write_mattes


def choose_folder(bench: Workbench) -> Path | None:
    """Ask where to keep a matte sequence."""
    path = bench.session.path
    name = QFileDialog.getExistingDirectory(bench.window, "A folder for the matte sequence", str(path.parent if path else Path.home()))
    return Path(name) if name else None


def make_mattes(bench: Workbench, folder: Path, called: str, done: Callable[[Path], object]) -> None:
    """Make the sequence for the selected track, in a folder of that one's name and `called` inside another; `done` gets it when it is there."""
    s = bench.session
    track, plate, shot = s.track, s.plate, s.shot
    if track is None or plate is None or s.cache is None or bench.work.busy():
        return
    read = s.cache.get
    where = folder / f"{''.join(c if c.isalnum() else '_' for c in track.name)}_{called}"

    def work(stop: Stop) -> Iterator[Event]:
        with single_threaded():
            yield from write_mattes(shot, track, plate, str(where / "matte.####.png"), read, stop)

    bench.work.begin(Job("Making the matte", shot.range[1] - shot.range[0] + 1, work), lambda: done(where))
