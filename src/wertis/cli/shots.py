"""Shot files and their tracks, as commands name them."""

from pathlib import Path

from wertis.core.errors import ShotFileError, WertisError
from wertis.core.shot import store
from wertis.core.shot.document import Shot, Track


def shot_at(path: str) -> Shot:
    shot = store.load(Path(path))
    if shot.plate is None:
        raise ShotFileError(f"{path} has no plate; open it in the window and choose one.")
    return shot


def track_in(shot: Shot, name: str) -> Track:
    track = shot.track_named(name)
    if track is None:
        names = ", ".join(t.name for t in shot.tracks) or "none"
        raise WertisError(f"The shot has no track named {name}; it has: {names}.")
    return track
