"""A solved camera as USD: its path with time samples, the scene's points, and planes as quads, in a world whose y goes up.

OpenUSD's cameras look along their own -z with y up (UsdGeomCamera); the world's y and z are turned about so that it lies as others expect it. Of focal
length and aperture only the ratio is known, so the aperture is a full frame's 36 mm. Lens terms stand as custom data, since USD's camera has none.
"""

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import numpy as np

from wertis.core.errors import DeliverError
from wertis.core.exchange.camera_axes import TURNED, from_world, to_world
from wertis.core.exchange.laid_out import camera_back, focal_and_zoom
from wertis.core.exchange.layout import Layout
from wertis.core.exchange.usd_stage import read_stage, reason, usd_library, written_stage
from wertis.core.geometry.camera import SolvedCamera

_APERTURE = 36.0  # millimetres across, of a full frame


def write_camera_usd(path: Path, camera: SolvedCamera, fps: float = 24.0, planes: Mapping[str, np.ndarray] | None = None,
                     layout: Layout | None = None) -> None:
    """Write a camera.

    Parameters
    ----------
    planes : name to corners (4, 3) in the camera's world.
    layout : whose size and frame numbers the camera has, where they are not the plate's own.

    Raises
    ------
    DeliverError
        When the library for USD is not installed, or the file cannot be written.
    """
    pxr = usd_library()
    Gf, UsdGeom, Vt = pxr.Gf, pxr.UsdGeom, pxr.Vt
    frames = sorted(camera.poses)
    width, height = camera.size
    unit = _APERTURE / width  # millimetres per pixel
    with written_stage(path, frames, fps) as stage:
        root = UsdGeom.Xform.Define(stage, "/scene")
        stage.SetDefaultPrim(root.GetPrim())
        made = UsdGeom.Camera.Define(stage, "/scene/camera")
        length = made.CreateFocalLengthAttr(camera.focal * unit)
        for frame, focal in camera.zoom.items():
            length.Set(focal * unit, frame)
        made.CreateHorizontalApertureAttr(_APERTURE)
        made.CreateVerticalApertureAttr(height * unit)
        made.CreateHorizontalApertureOffsetAttr((width / 2 - float(camera.principal[0])) * unit)
        made.CreateVerticalApertureOffsetAttr((float(camera.principal[1]) - height / 2) * unit)
        move = UsdGeom.Xformable(made).AddTransformOp()
        for frame in frames:
            move.Set(Gf.Matrix4d(*to_world(camera.poses[frame]).T.ravel().tolist()), frame)  # USD's matrices work on rows
        made.GetPrim().SetCustomDataByKey("wertis", {"width": width, "height": height, "radial1": camera.radial[0], "radial2": camera.radial[1],
                                                     "error": float(camera.error) if np.isfinite(camera.error) else -1.0,
                                                     **({"layout": layout.model_dump_json()} if layout is not None else {})})
        points = UsdGeom.Points.Define(stage, "/scene/points")
        points.CreatePointsAttr(Vt.Vec3fArray([Gf.Vec3f(*map(float, p)) for p in camera.points @ TURNED]))
        points.CreateWidthsAttr(Vt.FloatArray([0.01] * len(camera.points)))
        for k, (name, corners) in enumerate((planes or {}).items()):
            quad = UsdGeom.Mesh.Define(stage, f"/scene/plane{k + 1}")
            quad.CreatePointsAttr(Vt.Vec3fArray([Gf.Vec3f(*map(float, p)) for p in corners @ TURNED]))
            quad.CreateFaceVertexCountsAttr([4])
            quad.CreateFaceVertexIndicesAttr([3, 2, 1, 0])
            quad.GetPrim().SetCustomDataByKey("wertis", {"name": name})


def read_camera_usd(path: Path) -> SolvedCamera:
    """Read a camera that `write_camera_usd` wrote, on the plate's own frames; its errors are not in such a file.

    Raises
    ------
    DeliverError
        When it cannot be read.
    """
    pxr = usd_library()
    UsdGeom = pxr.UsdGeom
    stage = read_stage(path)
    try:
        made = UsdGeom.Camera(stage.GetPrimAtPath("/scene/camera"))
        about: Any = made.GetPrim().GetCustomDataByKey("wertis")
        width, height = int(about["width"]), int(about["height"])
        unit = float(made.GetHorizontalApertureAttr().Get()) / width
        principal = np.array([width / 2 - float(made.GetHorizontalApertureOffsetAttr().Get()) / unit,
                              height / 2 + float(made.GetVerticalApertureOffsetAttr().Get()) / unit])
        (move,) = UsdGeom.Xformable(made).GetOrderedXformOps()
        poses = {int(t): from_world(np.array(move.Get(t), float).T) for t in move.GetTimeSamples()}
        points = np.array(UsdGeom.Points(stage.GetPrimAtPath("/scene/points")).GetPointsAttr().Get(), float).reshape(-1, 3) @ TURNED
        length = made.GetFocalLengthAttr()
        zoom = {int(t): float(length.Get(t)) / unit for t in length.GetTimeSamples()}
        focal, zoom = focal_and_zoom(zoom or float(length.Get()) / unit, poses)
        radial = float(about["radial1"]), float(about["radial2"])
        found = SolvedCamera((width, height), focal, principal, radial, poses, points, np.arange(len(points)), {}, zoom)
        return camera_back(found, about.get("layout"))
    except Exception as why:  # the library raises its own kinds
        raise DeliverError(f"{path.name} cannot be read as a camera in USD ({reason(why)}).") from why


WRITERS: dict[str, Callable[..., None]] = {".usd": write_camera_usd, ".usda": write_camera_usd, ".usdc": write_camera_usd}
"""File endings and what writes them."""
