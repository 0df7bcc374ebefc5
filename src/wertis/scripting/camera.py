"""A solved camera in scripts."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from wertis import libraries  # noqa: F401  first, so that importing changes no environment
from wertis.core.blas import single_threaded
from wertis.core.jobs.camera import Solve, camera_tracks, pick_planes, solve_again, with_plane
from wertis.core.jobs.events import finished
from wertis.core.jobs.export import export_camera
from wertis.core.jobs.motion_export import layout_of, write_lens_map
from wertis.core.jobs.prove import Proof, prove_camera
from wertis.core.shot.camera_world import points_at, set_distance, set_ground
from wertis.core.shot.cameras import carried_on_plane, solved_camera
from wertis.core.shot.document import Shot as Document
from wertis.core.track.scene_plane import picked_plane
from wertis.scripting.common import Points, Progress, checked_fields, numbers
from wertis.scripting.exchange import shown_frames
from wertis.scripting.surface import Surface

if TYPE_CHECKING:
    from wertis.scripting.shot import Shot


class Camera:
    """A solved camera of a shot.

    Attributes
    ----------
    solved : its path, focal length, points and errors.
    """

    def __init__(self, shot: Shot, found: Solve) -> None:
        self.shot, self._found = shot, found
        self.solved = found.camera

    @property
    def error(self) -> float:
        """Mean reprojection error in pixels; common practice: under 1 is usable, about 0.3 good."""
        return self.solved.error

    def pin(self, corners: Points, frame: int) -> dict[int, np.ndarray]:
        """Corners (n, 2) of a flat part of the scene on a frame, carried to all frames: frame to (n, 2).

        Raises
        ------
        WertisError
            When there is no plane to be found there.
        """
        places = numbers(corners, "corners")
        return carried_on_plane(self.solved, picked_plane(self._found.seen, places, frame), places, frame)

    def set_ground(self, places: Points, frame: int) -> Camera:
        """Let the world stand on the plane through points that are seen at places (n, 2) of a frame, three or more: its origin is at their middle, and
        up is up in USD and glTF; the camera so."""
        numbers_ = points_at(self.shot.document, numbers(places, "places"), frame)
        self.shot._do("Set the ground", set_ground(self.shot.document, numbers_, frame))
        return self.shot.camera

    def set_distance(self, places: Points, frame: int, distance: float) -> Camera:
        """Let the world be so large that the two points seen at places (2, 2) of a frame are so far apart, in units of one's own; the camera so."""
        numbers_ = points_at(self.shot.document, numbers(places, "places"), frame)
        self.shot._do("Set the scale", set_distance(self.shot.document, numbers_, distance))
        return self.shot.camera

    def drop_points(self, worse_than: float) -> Camera:
        """Leave out points that are usually off by more than so many pixels, and solve again; the camera without them. Planes are picked anew."""
        record = solved_camera(self.shot.document)
        dropped = np.flatnonzero(record.off > worse_than).tolist()
        with single_threaded():
            after = solve_again(self.shot.document, dropped)
            for event in pick_planes(after, self.shot.plate, camera_tracks(after)):
                after = event.item if isinstance(event.item, Document) else after
        self.shot._do("Drop points of the camera", after)
        return self.shot.camera

    def plane(self, region: Points, frame: int, name: str = "Plane") -> Surface:
        """A track more in the shot, whose motion is that of the plane seen inside a region (N, 2) on a frame."""
        with checked_fields():
            document, ident = with_plane(self.shot.document, self._found, numbers(region, "region"), frame, name)
        self.shot._do(f"Add {name}", document)
        return Surface(self.shot, ident)

    def save(self, path: str | Path, **layout: Any) -> None:
        """Write the camera with its points and the planes of the shot's tracks as JSON, USD (.usd, .usda, .usdc) or glTF (.glb, .gltf).

        Parameters
        ----------
        layout : receiver (width, height) and first (number of the range's first frame).
        """
        with checked_fields():
            where = layout_of(self.shot.document, **layout)
        export_camera(self.shot.document, Path(path), where)

    def prove(self, surface: Surface, suffix: str = ".usd", frames: Sequence[int] | None = None, progress: Progress | None = None, **layout: Any) -> Proof:
        """Export the camera, let the receiver's stand-in lay a checker on the plane of a surface from the file alone, and compare: `.frames` with
        `.corners` in pixels and `.difference` in 255ths, and in `.wrong` what is wrong, in words."""
        with checked_fields():
            where = layout_of(self.shot.document, **layout)
        wanted = frames or shown_frames(self.shot.document)
        proof: Proof = finished(prove_camera(self.shot.document, surface.record, suffix, self.shot.plate, wanted, where), progress)
        return proof

    def save_lens_map(self, path: str | Path, straight: bool = True, **layout: Any) -> None:
        """Write the map (.exr) that takes the lens out of the plate, or (not `straight`) the one that puts it back; the layout as for motion."""
        with checked_fields():
            where = layout_of(self.shot.document, **layout)
        write_lens_map(self.shot.document, "straight map" if straight else "lens map", Path(path), where)
