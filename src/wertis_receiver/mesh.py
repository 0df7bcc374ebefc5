"""Reading an animated mesh on a frame: JSON, OBJ, USD and glTF, from their formats' own descriptions."""

import json
import struct
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from wertis_receiver.gltf import Gltf
from wertis_receiver.read import Convention, Unreadable, said_convention


@dataclass
class MeshFrame:
    """A mesh on a frame, in pixels from the picture's upper left corner, y down.

    Attributes
    ----------
    home : (V, 2) the vertices on the reference frame.
    places : (V, 2) on the frame.
    triangles : (T, 3).
    convention : in which coordinates a JSON file is; the others are in pixels of a picture of `convention.size`.
    """

    home: np.ndarray
    places: np.ndarray
    triangles: np.ndarray
    convention: Convention


def read_mesh(path: Path, frame: int, size: tuple[int, int], believed: Callable[[Convention], Convention]) -> MeshFrame:
    """A mesh file (.json, .usd, .glb, .gltf, or the frame's own .obj); `size` is the plate's, `believed` how a JSON's convention is taken."""
    suffix = path.suffix.lower()
    try:
        if suffix == ".json":
            body = json.loads(path.read_text("utf-8"))
            said = said_convention(body["layout"]) if "layout" in body else Convention((int(body["width"]), int(body["height"])))
            said = believed(said)
            home, places = (said.pixels(np.array(p, float)) for p in (body["vertices"], body["frames"][str(frame)]["places"]))
            return MeshFrame(home, places, np.array(body["triangles"], int), said)
        if suffix == ".obj":
            return _obj(path.read_text("utf-8"), size)
        if suffix in (".glb", ".gltf"):
            return _gltf(Gltf(path), frame)
        if suffix in (".usd", ".usda", ".usdc"):
            return _usd(path, frame)
    except (OSError, ValueError, KeyError, TypeError, IndexError, struct.error) as why:
        raise Unreadable(f"{path.name}: {why!r}") from why
    raise Unreadable(f"{path.name} is no mesh")


def _down(points: np.ndarray, height: float) -> np.ndarray:
    return np.column_stack([points[:, 0], height - points[:, 1]])


def _obj(text: str, size: tuple[int, int]) -> MeshFrame:
    layout = next((line[9:] for line in text.splitlines()[:4] if line.startswith("# layout ")), "")
    size = said_convention(json.loads(layout)).size if layout else size
    rows: dict[str, list[list[str]]] = {"v": [], "vt": [], "f": []}
    for line in text.splitlines():
        words = line.split()
        if words and words[0] in rows:
            rows[words[0]].append(words[1:])
    places, texture = (np.array([[float(v) for v in r[:2]] for r in rows[k]]) for k in ("v", "vt"))
    corners = [[[int(n) - 1 for n in corner.split("/")[:2]] for corner in face] for face in rows["f"]]
    triangles = np.array([[c[0] for c in face] for face in corners])
    home = np.zeros_like(places)
    for face in corners:
        for vertex, uv in face:
            home[vertex] = texture[uv] * size
    return MeshFrame(_down(home, size[1]), _down(places, size[1]), triangles, Convention(size))


def _gltf(file: Gltf, frame: int) -> MeshFrame:
    """The base and the morph target that the animation's weights choose on the frame."""
    body, values = file.body, file.values
    node = next(n for n in body["nodes"] if "mesh" in n)
    about, primitive = node["extras"]["wertis"], body["meshes"][node["mesh"]]["primitives"][0]
    weights = values(body["animations"][0]["samplers"][0]["output"]).reshape(len(about["frames"]), -1)[about["frames"].index(frame)]
    base = values(primitive["attributes"]["POSITION"]).astype(float)
    moved = base + sum(w * values(t["POSITION"]) for w, t in zip(weights, primitive["targets"], strict=True) if w)
    uv = values(primitive["attributes"]["TEXCOORD_0"]).astype(float)  # from the picture's upper left
    w, h = about["size"]
    return MeshFrame(uv * [w, h], _down(moved, h), values(primitive["indices"]).reshape(-1, 3).astype(int), Convention((w, h)))


def _usd(path: Path, frame: int) -> MeshFrame:
    from pxr import Usd, UsdGeom

    stage = Usd.Stage.Open(str(path))
    mesh = UsdGeom.Mesh(stage.GetDefaultPrim())
    about = mesh.GetPrim().GetCustomDataByKey("wertis")
    if frame not in mesh.GetPointsAttr().GetTimeSamples():
        raise KeyError(frame)
    uv = np.array(UsdGeom.PrimvarsAPI(mesh).GetPrimvar("st").Get(), float)
    size = about["width"], about["height"]
    return MeshFrame(_down(uv * size, size[1]), _down(np.array(mesh.GetPointsAttr().Get(frame), float), size[1]),
                     np.array(mesh.GetFaceVertexIndicesAttr().Get(), int).reshape(-1, 3), Convention(size))
