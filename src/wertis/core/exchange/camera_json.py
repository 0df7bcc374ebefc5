"""A solved camera as JSON: per frame a 3x4 world-to-camera matrix, focal length, principal point, lens terms, mean error, the scene's points."""

import json
from collections.abc import Mapping
from pathlib import Path

import numpy as np

from wertis.core.errors import DeliverError
from wertis.core.exchange.laid_out import camera_back, focal_and_zoom
from wertis.core.exchange.layout import Layout
from wertis.core.files import read_text, write_text
from wertis.core.geometry.camera import SolvedCamera

FORMAT, VERSION = "wertis camera", 1
_CONVENTION = ("pixels, first pixel's centre at 0.5,0.5, y down; cameras take the world to the camera, x right, y down, z forward; a point X is seen at "
               "principal + focal * d(x/z, y/z) with d(p) = p (1 + radial[0] r^2 + radial[1] r^4)")


def write_camera(path: Path, camera: SolvedCamera, fps: float = 24.0, planes: Mapping[str, np.ndarray] | None = None,
                 layout: Layout | None = None) -> None:
    """Write a camera.

    Parameters
    ----------
    fps : frames a second.
    planes : name to corners (4, 3) in the camera's world.
    layout : whose size and frame numbers the camera has, where they are not the plate's own.

    Raises
    ------
    DeliverError
        When the file cannot be written.
    """
    data = {"format": FORMAT, "version": VERSION, "convention": _CONVENTION, "size": list(camera.size),
            "focal": {str(f): v for f, v in camera.zoom.items()} or camera.focal,
            "principal": camera.principal.tolist(), "radial": list(camera.radial), "error": camera.error,
            "errors": {str(f): e for f, e in camera.errors.items()},
            "cameras": {str(f): p.tolist() for f, p in camera.poses.items()}, "fps": fps,
            "planes": {name: np.round(at, 9).tolist() for name, at in (planes or {}).items()},
            **({"layout": layout.said()} if layout is not None else {}), "points": np.round(camera.points, 9).tolist()}
    write_text(path, json.dumps(data, indent=1))


def read_camera(path: Path) -> SolvedCamera:
    """Read a camera that `write_camera` wrote, on the plate's own frames.

    Raises
    ------
    DeliverError
        When the file cannot be read, or is not such a file.
    """
    try:
        data = json.loads(read_text(path))
        if data["format"] != FORMAT or data["version"] != VERSION:
            raise DeliverError(f"{path.name} is not a camera of a version that can be read here.")
        poses = {int(f): np.array(p, float) for f, p in data["cameras"].items()}
        points, principal = np.array(data["points"], float).reshape(-1, 3), np.array(data["principal"], float)
        focal, zoom = focal_and_zoom(data["focal"], poses)
        if any(p.shape != (3, 4) or not np.isfinite(p).all() for p in poses.values()) or principal.shape != (2,) or not focal > 0:
            raise DeliverError(f"{path.name} holds a camera that is none: its matrices, principal point or focal length cannot be used.")
        width, height = (int(v) for v in data["size"])
        first, second = (float(v) for v in data["radial"])
        found = SolvedCamera((width, height), focal, principal, (first, second), poses, points, np.arange(len(points)),
                             {int(f): float(e) for f, e in data["errors"].items()}, zoom)
        return camera_back(found, data.get("layout"))
    except (KeyError, TypeError, ValueError, AttributeError, OverflowError, RecursionError) as why:
        raise DeliverError(f"{path.name} does not hold a camera as docs/formats.md says ({why}).") from why
