"""glTF 2.0 (Khronos, ISO/IEC 12113:2022): an animated mesh by morph targets, and a solved camera with its path, points and planes.

A mesh lies flat in z = 0 in the picture's pixels, y up from the lower left corner; each frame is a morph target, and an animation switches from one to
the next. A camera's world has y up. What glTF has no place for (frames, the principal point, the lens) stands under `extras.wertis`.
"""

import struct
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import scipy

from wertis.core.errors import DeliverError
from wertis.core.exchange.animated_mesh import AnimatedMesh
from wertis.core.exchange.camera_axes import TURNED, from_world, to_world
from wertis.core.exchange.laid_out import camera_back, focal_and_zoom
from wertis.core.exchange.layout import Layout
from wertis.core.files import replacing
from wertis.core.geometry.camera import SolvedCamera

_FLOAT, _UNSIGNED = 5126, 5125  # the specification's numbers for kinds of components
_POINTS, _TRIANGLES = 0, 4  # and of primitives
_VERTICES, _INDICES = 34962, 34963  # and for what a buffer's part is used
_MOST_WEIGHTS = 40_000_000  # numbers of an animation that has one weight for each frame and target
_MOST_BYTES = 4 << 30
_SHAPES = {1: "SCALAR", 2: "VEC2", 3: "VEC3", 4: "VEC4"}


class _Builder:
    """A file in the making: numbers go into one buffer."""

    def __init__(self, fps: float, frames: Sequence[int]) -> None:
        try:
            import pygltflib
        except ImportError as why:
            raise DeliverError("glTF needs the package pygltflib; install it with: pip install pygltflib. Or choose another format.") from why
        self.library = pygltflib
        self.made = pygltflib.GLTF2(asset=pygltflib.Asset(version="2.0", generator="Wertis"), scene=0, scenes=[pygltflib.Scene(nodes=[])])
        self.blob = bytearray()
        self.frames = list(frames)
        self.times = [(f - self.frames[0]) / fps for f in self.frames]

    def numbers(self, values: np.ndarray, use: int | None = None, limits: bool = False) -> int:
        """Put numbers (n,) or (n, k) into the buffer; the accessor's number."""
        array = np.ascontiguousarray(values, np.uint32 if values.dtype.kind in "iu" else np.float32)
        self.blob.extend(b"\0" * (-len(self.blob) % 4))
        view = self.library.BufferView(buffer=0, byteOffset=len(self.blob), byteLength=array.nbytes, target=use)
        self.blob.extend(array.tobytes())
        self.made.bufferViews.append(view)
        rows = array.reshape(len(array), -1)
        said = {"min": rows.min(0).tolist(), "max": rows.max(0).tolist()} if limits else {}
        self.made.accessors.append(self.library.Accessor(
            bufferView=len(self.made.bufferViews) - 1, componentType=_UNSIGNED if array.dtype == np.uint32 else _FLOAT, count=len(array),
            type=_SHAPES[rows.shape[1]], **said))
        return len(self.made.accessors) - 1

    def node(self, **fields: Any) -> int:
        """A node more in the scene; its number."""
        self.made.nodes.append(self.library.Node(**fields))
        self.made.scenes[0].nodes.append(len(self.made.nodes) - 1)
        return len(self.made.nodes) - 1

    def geometry(self, name: str, mode: int, places: np.ndarray, triangles: np.ndarray | None = None, texture: np.ndarray | None = None,
                 targets: Sequence[np.ndarray] = (), extras: dict[str, Any] | None = None) -> int:
        """A mesh of one primitive in a node of its own; the node's number."""
        attributes = self.library.Attributes(POSITION=self.numbers(places, _VERTICES, True))
        if texture is not None:
            attributes.TEXCOORD_0 = self.numbers(texture, _VERTICES)
        primitive = self.library.Primitive(mode=mode, attributes=attributes)
        if triangles is not None:
            primitive.indices = self.numbers(triangles.reshape(-1), _INDICES)
        primitive.targets = [{"POSITION": self.numbers(t, _VERTICES, True)} for t in targets]
        self.made.meshes.append(self.library.Mesh(name=name, primitives=[primitive], weights=[0.0] * len(targets) if targets else None))
        return self.node(name=name, mesh=len(self.made.meshes) - 1, extras={"wertis": extras} if extras else {})

    def animate(self, node: int, paths: Mapping[str, np.ndarray], stepped: bool = False) -> None:
        """Animate paths of a node: their values frame by frame."""
        made, times = self.library.Animation(name="frames"), self.numbers(np.array(self.times), limits=True)
        for path, values in paths.items():
            made.samplers.append(self.library.AnimationSampler(input=times, output=self.numbers(values), interpolation="STEP" if stepped else "LINEAR"))
            made.channels.append(self.library.AnimationChannel(sampler=len(made.samplers) - 1,
                                                               target=self.library.AnimationChannelTarget(node=node, path=path)))
        self.made.animations.append(made)

    def write(self, path: Path) -> None:
        """Write it as .glb, one file, or as .gltf with the numbers inside.

        Raises
        ------
        DeliverError
            When it cannot be written.
        """
        self.made.buffers = [self.library.Buffer(byteLength=len(self.blob))]
        self.made.set_binary_blob(bytes(self.blob))
        if path.suffix.lower() == ".gltf":
            self.made.convert_buffers(self.library.BufferFormat.DATAURI)
            body = self.made.to_json().encode()
        else:
            body = b"".join(self.made.save_to_bytes())
        with replacing(path) as temporary:
            temporary.write_bytes(body)


def write_mesh(path: Path, mesh: AnimatedMesh) -> None:
    """Write an animated mesh as .glb or .gltf.

    Raises
    ------
    DeliverError
        When it cannot be written, or has so many frames that its weights would fill the disk.
    """
    frames = sorted(mesh.places)
    if len(frames) ** 2 > _MOST_WEIGHTS:
        raise DeliverError(f"glTF holds a weight for each of {len(frames)} frames on each of them, which is too much; choose USD, or a shorter range.")
    builder = _Builder(mesh.fps, frames)
    base = _upright(mesh, mesh.vertices)
    node = builder.geometry(mesh.name or "mesh", _TRIANGLES, base, mesh.triangles[:, ::-1], mesh.vertices / np.array(mesh.size),
                            [_upright(mesh, mesh.places[f]) - base for f in frames],
                            {"frames": frames, "reference": mesh.reference, "size": list(mesh.size), "fps": mesh.fps, "name": mesh.name,
                             **({"layout": mesh.layout.said()} if mesh.layout is not None else {})})
    builder.animate(node, {"weights": np.eye(len(frames), dtype=np.float32).ravel()}, stepped=True)
    builder.write(path)


def _upright(mesh: AnimatedMesh, places: np.ndarray) -> np.ndarray:
    return np.column_stack([mesh.up(places), np.zeros(len(places))])


def write_camera(path: Path, camera: SolvedCamera, fps: float = 24.0, planes: Mapping[str, np.ndarray] | None = None,
                 layout: Layout | None = None) -> None:
    """Write a camera as .glb or .gltf.

    Parameters
    ----------
    planes : name to corners (4, 3) in the camera's world.
    layout : whose size and frame numbers the camera has, where they are not the plate's own.

    Raises
    ------
    DeliverError
        When it cannot be written.
    """
    frames = sorted(camera.poses)
    builder = _Builder(fps, frames)
    width, height = camera.size
    lens = builder.library.Perspective(aspectRatio=width / height, yfov=float(2 * np.arctan(height / 2 / camera.focal)), znear=0.01)
    builder.made.cameras.append(builder.library.Camera(name="camera", type="perspective", perspective=lens))
    about = {"frames": frames, "size": [width, height], "focal": {str(f): v for f, v in camera.zoom.items()} or camera.focal,
             "principal": [float(v) for v in camera.principal],
             "radial": list(camera.radial), "fps": fps, **({"layout": layout.said()} if layout is not None else {})}
    node = builder.node(name="camera", camera=0, extras={"wertis": about})
    matrices = np.array([to_world(camera.poses[f]) for f in frames])
    turns = scipy.spatial.transform.Rotation.from_matrix(matrices[:, :3, :3]).as_quat()
    for k in range(1, len(turns)):  # the short way from each to the next
        turns[k] *= 1.0 if turns[k] @ turns[k - 1] >= 0 else -1.0
    builder.animate(node, {"translation": matrices[:, :3, 3], "rotation": turns})
    if len(camera.points):
        builder.geometry("points", _POINTS, camera.points @ TURNED)
    for name, corners in (planes or {}).items():
        builder.geometry(name, _TRIANGLES, corners @ TURNED, np.array([[0, 2, 1], [0, 3, 2]]), np.array([[0.0, 0], [1, 0], [1, 1], [0, 1]]))
    builder.write(path)


class _Numbers:
    """The numbers of a file that is read: its JSON and its buffer."""

    def __init__(self, path: Path) -> None:
        import pygltflib

        if path.stat().st_size > _MOST_BYTES:
            raise ValueError("it is larger than 4 GB")
        self.made = pygltflib.GLTF2().load(str(path))
        if self.made is None:
            raise ValueError("it is no glTF")
        self.made.convert_buffers(pygltflib.BufferFormat.BINARYBLOB)
        self.blob = self.made.binary_blob() or b""

    def values(self, accessor: int) -> np.ndarray:
        """(n,) or (n, k) numbers of an accessor."""
        a = self.made.accessors[accessor]
        view = self.made.bufferViews[a.bufferView]
        wide = {name: k for k, name in _SHAPES.items()}[a.type]
        kind = np.dtype({_FLOAT: "<f4", _UNSIGNED: "<u4", 5123: "<u2", 5121: "u1"}[a.componentType])
        start = (view.byteOffset or 0) + (a.byteOffset or 0)
        if start < 0 or a.count < 0 or start + a.count * wide * kind.itemsize > len(self.blob) or view.byteStride not in (None, 0, wide * kind.itemsize):
            raise ValueError("its numbers lie outside its buffer")
        found = np.frombuffer(self.blob, kind, a.count * wide, start)
        found = found.astype(np.int64 if kind.kind == "u" else np.float64)
        if not np.isfinite(found).all():
            raise ValueError("it holds numbers that are not finite")
        return found.reshape(-1, wide) if wide > 1 else found

    def about(self, kind: str) -> tuple[Any, dict[str, Any]]:
        """The first node of a kind ("mesh", "camera") that says what Wertis keeps with it, and that."""
        for node in self.made.nodes:
            if getattr(node, kind) is not None and "wertis" in (node.extras or {}):
                return node, node.extras["wertis"]
        raise ValueError(f"it holds no {kind} that Wertis wrote")

    def track(self, node: Any, path: str) -> np.ndarray:
        """The values of a node's animated path."""
        number = self.made.nodes.index(node)
        for animation in self.made.animations:
            for channel in animation.channels:
                if channel.target.node == number and channel.target.path == path:
                    return self.values(animation.samplers[channel.sampler].output)
        raise ValueError(f"its {path} is not animated")


_DAMAGED = (KeyError, TypeError, ValueError, AttributeError, IndexError, OverflowError, RecursionError, OSError, AssertionError, struct.error)


@contextmanager
def _reading(path: Path, what: str) -> Iterator[_Numbers]:
    """A file's numbers; whatever is wrong with it, or with what is made of them, becomes an error in words."""
    try:
        yield _Numbers(path)
    except _DAMAGED as why:
        raise DeliverError(f"{path.name} cannot be read as {what} in glTF ({(str(why).strip() or type(why).__name__).splitlines()[0]}); export it "
                           "again.") from why


def read_mesh(path: Path) -> AnimatedMesh:
    """Read an animated mesh that `write_mesh` wrote.

    Raises
    ------
    DeliverError
        When it cannot be read.
    """
    with _reading(path, "a mesh") as numbers:
        node, about = numbers.about("mesh")
        primitive = numbers.made.meshes[node.mesh].primitives[0]
        size = int(about["size"][0]), int(about["size"][1])
        base = numbers.values(primitive.attributes.POSITION)
        triangles = numbers.values(primitive.indices).reshape(-1, 3)[:, ::-1]
        frames = [int(f) for f in about["frames"]]
        targets = [t["POSITION"] if isinstance(t, dict) else t.POSITION for t in primitive.targets]
        if len(targets) != len(frames) or not len(base) or (len(triangles) and not (triangles.min() >= 0 and triangles.max() < len(base))):
            raise ValueError("its frames or triangles do not fit its vertices")
        places = {f: _down(base + numbers.values(t), size) for f, t in zip(frames, targets, strict=True)}
        return AnimatedMesh(size, float(about["fps"]), int(about["reference"]), _down(base, size), triangles, places, name=str(about.get("name", "")),
                            layout=Layout.model_validate(about["layout"]) if about.get("layout") else None)


def _down(places: np.ndarray, size: tuple[int, int]) -> np.ndarray:
    return np.column_stack([places[:, 0], size[1] - places[:, 1]])


def read_camera(path: Path) -> SolvedCamera:
    """Read a camera that `write_camera` wrote; its errors are not in such a file.

    Raises
    ------
    DeliverError
        When it cannot be read.
    """
    with _reading(path, "a camera") as numbers:
        node, about = numbers.about("camera")
        places, turns = numbers.track(node, "translation"), numbers.track(node, "rotation")
        frames = [int(f) for f in about["frames"]]
        if not len(frames) == len(places) == len(turns):
            raise ValueError("its frames do not fit its path")
        matrices = np.tile(np.eye(4), (len(frames), 1, 1))
        matrices[:, :3, :3], matrices[:, :3, 3] = scipy.spatial.transform.Rotation.from_quat(turns).as_matrix(), places
        points = next((numbers.values(m.primitives[0].attributes.POSITION) @ TURNED for m in numbers.made.meshes if m.primitives[0].mode == _POINTS),
                      np.zeros((0, 3)))
        size, (focal, zoom) = (int(about["size"][0]), int(about["size"][1])), focal_and_zoom(about["focal"], frames)
        principal = np.array([float(v) for v in about["principal"]])
        if not (min(size) >= 1 and max(size) <= 65536 and 0 < focal < 1e7 and principal.shape == (2,) and np.isfinite(principal).all()):
            raise ValueError("its lens is none")
        radial = float(about["radial"][0]), float(about["radial"][1])
        found = SolvedCamera(size, focal, principal, radial, {f: from_world(m) for f, m in zip(frames, matrices, strict=True)}, points,
                             np.arange(len(points)), {}, zoom)
        return camera_back(found, about.get("layout"))
