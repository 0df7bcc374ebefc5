"""Reading a solved camera and planes of the scene: JSON, USD and glTF, from their formats' own descriptions."""

import json
import struct
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from wertis_receiver.gltf import Gltf
from wertis_receiver.read import Unreadable


@dataclass
class CameraFrame:
    """A camera on a frame. Its own axes are x right, y down, z forward.

    Attributes
    ----------
    size : width, height of its picture.
    focal, principal : pixels; the first pixel reaches from 0 to 1.
    radial : two terms of the lens.
    pose : (3, 4) the file's world to the camera.
    planes : name to four corners (4, 3) in that world.
    """

    size: tuple[int, int]
    focal: float
    principal: np.ndarray
    radial: tuple[float, float]
    pose: np.ndarray
    planes: dict[str, np.ndarray] = field(default_factory=dict)

    def seen(self, points: np.ndarray) -> np.ndarray:
        """Points (n, 3) of the world in its picture (n, 2)."""
        at = points @ self.pose[:, :3].T + self.pose[:, 3]
        if (at[:, 2] <= 0).any():
            raise Unreadable("a part of the plane is behind the camera")
        flat = at[:, :2] / at[:, 2:]
        square = (flat ** 2).sum(1, keepdims=True)
        return self.principal + self.focal * flat * (1 + self.radial[0] * square + self.radial[1] * square ** 2)


def read_camera(path: Path, frame: int) -> CameraFrame:
    """A camera file (.json, .usd, .glb, .gltf) on a frame."""
    suffix = path.suffix.lower()
    try:
        if suffix == ".json":
            body = json.loads(path.read_text("utf-8"))
            return CameraFrame(tuple(body["size"]), _focal(body["focal"], frame), np.array(body["principal"], float), tuple(body["radial"]),
                               np.array(body["cameras"][str(frame)], float), {n: np.array(p, float) for n, p in body["planes"].items()})
        if suffix in (".glb", ".gltf"):
            return _gltf(Gltf(path), frame)
        if suffix in (".usd", ".usda", ".usdc"):
            return _usd(path, frame)
    except (OSError, ValueError, KeyError, TypeError, IndexError, struct.error) as why:
        raise Unreadable(f"{path.name}: {why!r}") from why
    raise Unreadable(f"{path.name} is no camera")


def _focal(given: float | dict[str, float], frame: int) -> float:
    """One number, or one of each frame where the camera zooms."""
    return float(given[str(frame)] if isinstance(given, dict) else given)


def _pose(to_world: np.ndarray) -> np.ndarray:
    """(3, 4) from the world to a camera with y down and z forward, of (4, 4) to the world from one with y up that looks along its -z."""
    return np.diag([1.0, -1.0, -1.0]) @ np.linalg.inv(to_world)[:3]


def _gltf(file: Gltf, frame: int) -> CameraFrame:
    """The node with the camera, moved by its animation (sections 3.7.3 and 3.11 of the specification); planes are meshes of two triangles."""
    number, node = next((k, n) for k, n in enumerate(file.body["nodes"]) if "camera" in n)
    about = node["extras"]["wertis"]
    at = about["frames"].index(frame)
    paths = {}
    for animation in file.body["animations"]:
        for channel in animation["channels"]:
            if channel["target"]["node"] == number:
                paths[channel["target"]["path"]] = file.values(animation["samplers"][channel["sampler"]]["output"])[at].astype(float)
    x, y, z, w = paths["rotation"] / np.linalg.norm(paths["rotation"])
    matrix = np.eye(4)
    matrix[:3, :3] = [[1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
                      [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
                      [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)]]
    matrix[:3, 3] = paths["translation"]
    planes = {}
    for other in file.body["nodes"]:
        if "mesh" in other and file.body["meshes"][other["mesh"]]["primitives"][0].get("mode", 4) == 4:
            planes[other["name"]] = file.values(file.body["meshes"][other["mesh"]]["primitives"][0]["attributes"]["POSITION"]).astype(float)
    return CameraFrame(tuple(about["size"]), _focal(about["focal"], frame), np.array(about["principal"], float), tuple(about["radial"]), _pose(matrix),
                       planes)


def _usd(path: Path, frame: int) -> CameraFrame:
    """UsdGeomCamera: apertures, their offsets and the focal length are in one unit; the offset moves the picture's middle."""
    from pxr import Usd, UsdGeom

    stage = Usd.Stage.Open(str(path))
    prims = list(stage.Traverse())
    camera = next(UsdGeom.Camera(p) for p in prims if p.IsA(UsdGeom.Camera))
    if frame not in UsdGeom.Xformable(camera).GetOrderedXformOps()[0].GetTimeSamples():
        raise KeyError(frame)
    about = camera.GetPrim().GetCustomDataByKey("wertis")
    w, h = int(about["width"]), int(about["height"])
    unit = w / camera.GetHorizontalApertureAttr().Get()
    principal = np.array([w / 2 - camera.GetHorizontalApertureOffsetAttr().Get() * unit, h / 2 + camera.GetVerticalApertureOffsetAttr().Get() * unit])
    to_world = np.array(UsdGeom.XformCache(frame).GetLocalToWorldTransform(camera.GetPrim()), float).T
    planes = {str(p.GetCustomDataByKey("wertis")["name"]): np.array(UsdGeom.Mesh(p).GetPointsAttr().Get(), float) for p in prims if p.IsA(UsdGeom.Mesh)}
    return CameraFrame((w, h), camera.GetFocalLengthAttr().Get(frame) * unit, principal, (about["radial1"], about["radial2"]), _pose(to_world), planes)
