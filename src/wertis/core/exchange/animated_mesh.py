"""An animated mesh in open formats: CSV, JSON, a sequence of Wavefront OBJ files, and USD; each can be read back.

In CSV and JSON places are as the layout says: by itself the picture's pixels, y down, the first pixel's centre at (0.5, 0.5). In OBJ and USD x is to
the right and y up, from the picture's lower left corner, in pixels, z is 0; texture coordinates are the vertices' places on the reference frame, 0..1
over its picture from the lower left corner, so that the reference frame itself fits as a texture.
"""

import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import scipy

from wertis.core.errors import DeliverError
from wertis.core.exchange import points_csv
from wertis.core.exchange.layout import Layout
from wertis.core.exchange.usd_stage import read_stage, reason, usd_library, written_stage
from wertis.core.files import numbered, read_text, write_text

FORMAT, VERSION = "wertis animated mesh", 2
_CSV_BEGINS = "# Wertis mesh "
MOST_VERTICES = 1_000_000


@dataclass(frozen=True)
class AnimatedMesh:
    """A mesh of V vertices over frames.

    Attributes
    ----------
    size : width and height of the picture that the coordinates are of.
    fps : frames per second.
    reference : the frame on which the vertices are given.
    vertices : (V, 2) on the reference frame.
    triangles : (T, 3) int, clockwise as they are seen.
    places : frame to (V, 2).
    errors, seen : frame to (V,) expected error in pixels of the plate, and whether each vertex was measured; where that is known.
    layout : of the coordinates and frame numbers, where they are not the plate's own.
    """

    size: tuple[int, int]
    fps: float
    reference: int
    vertices: np.ndarray
    triangles: np.ndarray
    places: dict[int, np.ndarray]
    errors: dict[int, np.ndarray] = field(default_factory=dict)
    seen: dict[int, np.ndarray] = field(default_factory=dict)
    name: str = ""
    layout: Layout | None = None

    def up(self, points: np.ndarray) -> np.ndarray:
        """Places (V, 2) with y up, from the picture's lower left corner."""
        return np.column_stack([points[:, 0], self.size[1] - points[:, 1]])

    @property
    def texture(self) -> np.ndarray:
        """(V, 2) texture coordinates."""
        return self.up(self.vertices) / np.array(self.size)


# -- CSV ----------------------------------------------------------------------------------------------------------


def write_csv(path: Path, mesh: AnimatedMesh) -> None:
    """Write `frame,id,x,y,error,seen`, the id being the vertex's number, below lines that begin with # and say what it is."""
    numbers = range(len(mesh.vertices))
    layout = mesh.layout or Layout(size=mesh.size)
    remarks = (f"Wertis mesh {mesh.name}, {mesh.fps:g} fps", layout.words(), f"reference frame {mesh.reference}", f"layout {layout.model_dump_json()}")
    whole = bool(mesh.errors) and all(f in mesh.errors and f in mesh.seen for f in mesh.places)
    points_csv.write_frames(path, {f: {str(k): p[k] for k in numbers} for f, p in mesh.places.items()},
                            {f: {str(k): float(mesh.errors[f][k]) for k in numbers} for f in mesh.places} if whole else None,
                            {f: {str(k): bool(mesh.seen[f][k]) for k in numbers} for f in mesh.places} if whole else None, remarks, layout.digits + 1)


def is_mesh_csv(path: Path) -> bool:
    """Whether a table is one that `write_csv` wrote."""
    try:
        with open(path, encoding="utf-8") as f:
            return f.readline().startswith(_CSV_BEGINS)
    except (OSError, UnicodeDecodeError):
        return False


def read_csv(path: Path) -> AnimatedMesh:
    """Read what `write_csv` wrote; its triangles, which the table does not hold, are Delaunay's.

    Raises
    ------
    DeliverError
        When it cannot be read.
    """
    said = dict(line[2:].rstrip("\n").split(" ", 1) for line in read_text(path).splitlines()[:8] if line.startswith("# ") and " " in line[2:])
    rows = points_csv.read_frames(path, beside=("error", "seen"))
    try:
        layout = Layout.model_validate_json(said["layout"])
        reference = int(said["reference"].removeprefix("frame "))
        name, fps = said["Wertis"].removeprefix("mesh ").rsplit(", ", 1)
        count = len(next(iter(rows.values())))
        table = {f: np.array([on[str(k)] for k in range(count)]) for f, on in rows.items() if len(on) == count}
        home = reference if reference in table else min(table)
        vertices = table[home][:, :2]
        if count > MOST_VERTICES or len(table) != len(rows):
            raise ValueError("its frames have different numbers of vertices")
        triangles = scipy.spatial.Delaunay(layout.back(vertices)).simplices
        sides = np.diff(layout.back(vertices)[triangles], axis=1)
        turned = sides[:, 0, 0] * sides[:, 1, 1] - sides[:, 0, 1] * sides[:, 1, 0] < 0
        triangles = np.where(turned[:, None], triangles[:, ::-1], triangles)
        known = table[home].shape[1] == 4
        return AnimatedMesh(layout.picture, float(fps.removesuffix(" fps")), home, vertices, triangles, {f: t[:, :2] for f, t in table.items()},
                            {f: t[:, 2] for f, t in table.items()} if known else {}, {f: t[:, 3] > 0 for f, t in table.items()} if known else {}, name,
                            layout)
    except (KeyError, ValueError, TypeError, scipy.spatial.QhullError, RecursionError) as why:  # pydantic's errors are ValueErrors
        raise DeliverError(f"{path.name} is damaged ({(str(why) or type(why).__name__).splitlines()[0]}); export it again.") from why


# -- JSON ---------------------------------------------------------------------------------------------------------


def write_json(path: Path, mesh: AnimatedMesh) -> None:
    """Write the whole mesh as one documented JSON file."""
    layout = mesh.layout or Layout(size=mesh.size)

    def rows(points: np.ndarray) -> list:
        return np.round(points, layout.digits).tolist()  # type: ignore[no-any-return]

    body = {"format": FORMAT, "version": VERSION, "convention": layout.words(), "layout": layout.said(),
            "name": mesh.name, "width": mesh.size[0], "height": mesh.size[1],
            "fps": mesh.fps, "reference": mesh.reference, "vertices": rows(mesh.vertices), "triangles": mesh.triangles.tolist(),
            "frames": {str(f): {"places": rows(p), **({"errors": rows(np.minimum(mesh.errors[f], 1e6))} if f in mesh.errors else {}),
                                **({"seen": mesh.seen[f].astype(int).tolist()} if f in mesh.seen else {})} for f, p in sorted(mesh.places.items())}}
    write_text(path, json.dumps(body, ensure_ascii=False) + "\n")


def read_json(path: Path) -> AnimatedMesh:
    """Read what `write_json` wrote, or wrote in version 1, which knew no layout.

    Raises
    ------
    DeliverError
        When the file is something else, damaged, or newer.
    """
    try:
        body = json.loads(read_text(path))
        if not isinstance(body, dict) or body.get("format") != FORMAT:
            raise DeliverError(f"{path.name} is not an animated mesh; choose a JSON file that Wertis exported.")
        if body.get("version") not in (1, VERSION):
            raise DeliverError(f"{path.name} is of version {body.get('version')}; this Wertis reads version {VERSION}.")
        vertices = np.array(body["vertices"], float).reshape(-1, 2)
        frames = {int(f): on for f, on in body["frames"].items()}
        places = {f: np.array(on["places"], float).reshape(len(vertices), 2) for f, on in frames.items()}
        triangles = np.array(body["triangles"], int).reshape(-1, 3)
        if triangles.size and not 0 <= triangles.min() <= triangles.max() < len(vertices):
            raise ValueError("a triangle has a vertex that does not exist")
        return AnimatedMesh((int(body["width"]), int(body["height"])), float(body["fps"]), int(body["reference"]), vertices, triangles, places,
                            {f: np.array(on["errors"], float) for f, on in frames.items() if "errors" in on},
                            {f: np.array(on["seen"], bool) for f, on in frames.items() if "seen" in on}, str(body.get("name", "")), _layout_in(body))
    except (KeyError, TypeError, ValueError, AttributeError, OverflowError, RecursionError) as why:
        raise DeliverError(f"{path.name} is damaged ({str(why).splitlines()[0]}); export it again.") from why


def _layout_in(body: Mapping[str, Any]) -> Layout | None:
    """The layout of what was read; None where it says none."""
    said = body.get("layout")
    return Layout.model_validate_json(said) if isinstance(said, str) else Layout.model_validate(said) if said else None


# -- Wavefront OBJ ------------------------------------------------------------------------------------------------


def write_obj(pattern: Path, mesh: AnimatedMesh) -> list[Path]:
    """Write one OBJ file for each frame (Wavefront, Advanced Visualizer appendix B1, object files); the files.

    #### in the name stands for the frame's number; without it, the number is put before the ending.
    """
    texture = "".join(f"vt {u:.6f} {v:.6f}\n" for u, v in mesh.texture)
    # counter-clockwise with y up is clockwise with y down, turned over: the order stays as it is seen
    faces = "".join("f " + " ".join(f"{k + 1}/{k + 1}" for k in t[::-1]) + "\n" for t in mesh.triangles.tolist())
    written = []
    for frame, places in sorted(mesh.places.items()):
        head = f"# Wertis mesh {mesh.name}, frame {frame}; pixels, y up from the lower left corner of a picture of {mesh.size[0]} x {mesh.size[1]}\n"
        head += f"# layout {mesh.layout.model_dump_json()}\n" if mesh.layout is not None else ""
        path = numbered(pattern, frame) or pattern.with_name(f"{pattern.stem}.{frame:04d}{pattern.suffix}")
        write_text(path, head + "".join(f"v {x:.5f} {y:.5f} 0\n" for x, y in mesh.up(places)) + texture + faces)
        written.append(path)
    return written


def read_obj(path: Path) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Vertices (V, 3), texture coordinates (V, 2) and triangles (T, 3) of an OBJ file of triangles.

    Raises
    ------
    DeliverError
        When it cannot be read.
    """
    vertices, texture, faces = [], [], []
    try:
        for line in read_text(path).splitlines():
            parts = line.split()
            if parts[:1] == ["v"]:
                vertices.append([float(v) for v in parts[1:4]])
            elif parts[:1] == ["vt"]:
                texture.append([float(v) for v in parts[1:3]])
            elif parts[:1] == ["f"]:
                faces.append([int(p.split("/")[0]) - 1 for p in parts[1:4]])
        return np.array(vertices, float).reshape(-1, 3), np.array(texture, float).reshape(-1, 2), np.array(faces, int).reshape(-1, 3)
    except (ValueError, OverflowError) as why:
        raise DeliverError(f"{path.name} is damaged ({why}); export it again.") from why


def obj_layout(path: Path) -> Layout | None:
    """The layout that an OBJ file of Wertis' says in its head; None where it says none, and is in the plate's own pixels.

    Raises
    ------
    DeliverError
        When what it says is damaged.
    """
    for line in read_text(path).splitlines()[:4]:
        if line.startswith("# layout "):
            try:
                return Layout.model_validate_json(line[9:])
            except ValueError as why:
                raise DeliverError(f"{path.name} is damaged ({str(why).splitlines()[0]}); export it again.") from why
    return None


# -- USD ----------------------------------------------------------------------------------------------------------


def write_usd(path: Path, mesh: AnimatedMesh) -> None:
    """Write a USD mesh with time samples, frames as time codes (OpenUSD, UsdGeomMesh).

    Raises
    ------
    DeliverError
        When the library for USD is not installed, or the file cannot be written.
    """
    pxr = usd_library()
    Gf, Sdf, UsdGeom, Vt = pxr.Gf, pxr.Sdf, pxr.UsdGeom, pxr.Vt
    frames = sorted(mesh.places)
    with written_stage(path, frames, mesh.fps) as stage:
        made = UsdGeom.Mesh.Define(stage, "/mesh")
        stage.SetDefaultPrim(made.GetPrim())
        made.CreateFaceVertexCountsAttr([3] * len(mesh.triangles))
        made.CreateFaceVertexIndicesAttr(mesh.triangles[:, ::-1].ravel().tolist())
        made.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
        points = made.CreatePointsAttr()
        for frame in frames:
            at = mesh.up(mesh.places[frame])
            points.Set(Vt.Vec3fArray([Gf.Vec3f(float(x), float(y), 0.0) for x, y in at]), frame)
        uv = UsdGeom.PrimvarsAPI(made).CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.vertex)
        uv.Set(Vt.Vec2fArray([Gf.Vec2f(float(u), float(v)) for u, v in mesh.texture]))
        made.GetPrim().SetCustomDataByKey("wertis", {"reference": mesh.reference, "width": mesh.size[0], "height": mesh.size[1], "name": mesh.name,
                                                   **({"layout": mesh.layout.model_dump_json()} if mesh.layout is not None else {})})


def read_usd(path: Path) -> AnimatedMesh:
    """Read what `write_usd` wrote.

    Raises
    ------
    DeliverError
        When it cannot be read.
    """
    pxr = usd_library()
    UsdGeom = pxr.UsdGeom
    stage = read_stage(path)
    try:
        made = UsdGeom.Mesh(stage.GetDefaultPrim())
        about = made.GetPrim().GetCustomDataByKey("wertis")
        size = int(about["width"]), int(about["height"])
        points = made.GetPointsAttr()

        def down(at: np.ndarray) -> np.ndarray:
            return np.column_stack([at[:, 0], size[1] - at[:, 1]])

        places = {int(t): down(np.array(points.Get(t), float)) for t in points.GetTimeSamples()}
        uv = np.array(UsdGeom.PrimvarsAPI(made).GetPrimvar("st").Get(), float)
        triangles = np.array(made.GetFaceVertexIndicesAttr().Get(), int).reshape(-1, 3)[:, ::-1]
        return AnimatedMesh(size, float(stage.GetTimeCodesPerSecond()), int(about["reference"]), down(uv * size), triangles, places,
                            name=str(about.get("name", "")), layout=_layout_in(about))
    except Exception as why:  # the library raises its own kinds
        raise DeliverError(f"{path.name} cannot be read as a mesh in USD ({reason(why)}).") from why


WRITERS: dict[str, Callable[[Path, AnimatedMesh], object]] = {
    ".csv": write_csv, ".json": write_json, ".obj": write_obj, ".usd": write_usd, ".usda": write_usd, ".usdc": write_usd}
"""File endings and what writes them."""
