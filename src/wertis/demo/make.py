"""The demo shots on disk: made once into the person's data folder, with their truth and a shot that is already tracked."""

import json
import shutil
import threading
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import cv2
import numpy as np
import platformdirs

from wertis.core.errors import DeliverError
from wertis.core.geometry import homography
from wertis.core.plate import open_plate
from wertis.core.shot import edits, store
from wertis.core.shot.document import Artwork, Placement, Shot
from wertis.core.track.run import track_plane
from wertis.demo import graphics
from wertis.demo.scene import FIRST, Film, Scene

VERSION = 2
FRAMES = 60
FILMS = {"tea_crate": Film(FRAMES, "", 11), "tea_crate_passers": Film(FRAMES, "barrow", 12), "tea_crate_awning": Film(FRAMES, "awning", 13)}
TITLES = {"tea_crate": "Tea crate", "tea_crate_passers": "Tea crate with rope and barrow",
          "tea_crate_awning": "Tea crate behind an awning, which needs a hold-out"}
TRACKED = "Brindle Quay.wertis"
DRIFTING = "Brindle Quay, drifting.wertis"
FIRST_FILM = "tea_crate"  # the one that is tracked; made first, so that there is something to see soon

Report = Callable[[str], None]

_making = threading.Lock()  # a second wish waits for the first and finds the shots made


def folder() -> Path:
    """Where the demo shots are kept."""
    return Path(platformdirs.user_data_dir("wertis")) / f"demo-{VERSION}"


def ready(where: Path | None = None, names: Iterable[str] = FILMS) -> bool:
    """Whether these demo shots have been made."""
    return all(((where or folder()) / f"{name}.made").exists() for name in names)


def steps(names: Iterable[str] = FILMS, where: Path | None = None) -> int:
    """How many steps making these shots takes."""
    return sum(FILMS[n].frames + (FRAMES - 1) * (n == FIRST_FILM) for n in names if not ready(where, [n]))


def make(where: Path | None = None, report: Report = lambda text: None, frames: int = FRAMES, names: Iterable[str] = FILMS) -> Path:
    """Make the demo shots of these names and return their folder; nothing is done when they are there.

    Parameters
    ----------
    report : called after each of `steps()` steps with what was made.
    frames : how many frames of each, from its first; fewer for tests.

    Raises
    ------
    DeliverError
        When the folder cannot be written to.
    """
    root = where or folder()
    with _making:
        _make(root, report, frames, names)
    return root


def _make(root: Path, report: Report, frames: int, names: Iterable[str]) -> None:
    try:
        for name in names:
            if ready(root, [name]):
                continue
            shutil.rmtree(root / name, ignore_errors=True)
            (root / name).mkdir(parents=True)
            _film(root / name, FILMS[name], frames, report)
            if name == FIRST_FILM:
                graphics.write_all(root / "graphics")
                _tracked_shot(root, report)
            (root / f"{name}.made").write_text(f"{VERSION}\n")
    except OSError as why:
        raise DeliverError(f"The demo shots cannot be made in {root} ({why.strerror or why}); free some space (about 40 MB), or set "
                           "XDG_DATA_HOME to another folder.") from why


def _film(where: Path, film: Film, frames: int, report: Report) -> None:
    scene = Scene(film)

    def one(index: int) -> int:
        path = where / f"{where.name}.{FIRST + index:04d}.jpg"
        if not cv2.imwrite(str(path), scene.frame(index)[..., ::-1], [cv2.IMWRITE_JPEG_QUALITY, 95]):
            raise OSError(f"{path.name} was not written")
        return FIRST + index

    threads = cv2.getNumThreads()
    cv2.setNumThreads(1)  # frames are made side by side instead
    try:
        with ThreadPoolExecutor(2) as pool:
            for frame in pool.map(one, range(frames)):
                report(f"{where.name} {frame}")
    finally:
        cv2.setNumThreads(threads)
    truth = {str(FIRST + i): scene.truth(i).round(4).tolist() for i in range(frames)}
    (where / "truth.json").write_text(json.dumps(
        {"what": "corners of the crate's front, clockwise from its top left; pixels, first centre at 0.5,0.5", "corners": truth}))


def front_corners(where: Path, frame: int = FIRST) -> np.ndarray:
    """The true corners (4, 2) of the crate's front on a frame of a demo shot."""
    return np.array(json.loads((where / "truth.json").read_text())["corners"][str(frame)])


def _tracked_shot(root: Path, report: Report) -> None:
    plate = open_plate(root / "tea_crate")
    shot = edits.new_shot(plate, str(root / "tea_crate"), "Brindle Quay")
    onto = homography.from_unit_square(front_corners(root / "tea_crate"))
    region = homography.apply(onto, np.array([[.04, .05], [.96, .05], [.96, .95], [.04, .95]]))
    shot, track = edits.add_track(shot, region, FIRST, "Crate front")
    fixes = {}
    for frame, fix in track_plane(plate, region, FIRST, range(FIRST + 1, plate.last + 1)):
        fixes[frame] = fix
        report(f"tracking {frame}")
    shot = edits.set_solved(shot, track.id, fixes)
    corners = homography.apply(onto, np.array([[.185, .185], [.815, .185], [.815, .815], [.185, .815]]))
    poster = Placement(name="Night market", frame=FIRST, quad=edits.as_points(corners), fit="stretch",
                       artwork=Artwork(kind="picture", path=str(root / "graphics" / "night_market.png")))
    shot = edits.add_placement(shot, track.id, poster)
    store.save(shot, root / TRACKED)
    store.save(_spoilt(shot), root / DRIFTING)


def _spoilt(shot: Shot) -> Shot:
    """The tracked shot with its motion spoilt on purpose, to learn checking and repairing on: a drift that grows, and one corner that jumps."""
    track = shot.tracks[0]
    assert track.solved is not None
    corners = track.placements[0].array
    first, last = int(track.solved.frames[0]), int(track.solved.frames[-1])
    matrices = track.solved.matrices.copy()
    for k, frame in enumerate(track.solved.frames):
        part = (frame - first) / max(1, last - first)
        slip = np.tile([3.2 * part, -2.1 * part], (4, 1))
        if abs(int(frame) - (first + 18)) <= 1:
            slip[1] += [4.0, 2.5]
        matrices[k] = homography.from_points(corners, homography.apply(matrices[k], corners) + slip)
    return shot.with_track(track.but(solved=track.solved.but(matrices=matrices))).but(name="Brindle Quay, drifting")
