"""`wertis-receiver`: rebuild a frame from an exported file, the plate and the artwork alone."""

import argparse
import json
import sys
from pathlib import Path

import cv2
import numpy as np

from wertis_receiver import draw
from wertis_receiver.camera import read_camera
from wertis_receiver.mesh import read_mesh
from wertis_receiver.read import Convention, Motion, Unreadable, read
from wertis_receiver.shapes import filled, read_shapes

_ACROSS = 24  # squares of a plane's grid in each direction


def parser() -> argparse.ArgumentParser:
    """Its options."""
    p = argparse.ArgumentParser(prog="wertis-receiver", description="Rebuild a frame from what Wertis exported, the plate and the artwork alone; "
                                "a stand-in for the application that receives it.")
    p.add_argument("motion", help="a motion file (.json, .csv), one coordinate map (.exr), a mesh or shapes")
    p.add_argument("--plate", required=True, metavar="PICTURE", help="the plate's picture of that frame")
    p.add_argument("--artwork", metavar="PICTURE", help="what is to be put there; not needed for shapes, which come out as a matte")
    p.add_argument("--mesh", action="store_true", help="the file is an animated mesh (.json, .usd, .glb, or the frame's .obj)")
    p.add_argument("--camera", action="store_true", help="the file holds a solved camera and planes (.json, .usd, .glb)")
    p.add_argument("--plane", metavar="NAME", help="with --camera: the plane that the artwork lies on")
    p.add_argument("--shapes", action="store_true", help="the file holds shapes (.json, .csv, .svg)")
    p.add_argument("--frame", type=int, required=True, metavar="N", help="the frame, as it is numbered in the file")
    p.add_argument("--corners", metavar='"x,y x,y x,y x,y"', help="for matrices, maps and meshes: its corners on the reference frame, in the file's terms")
    p.add_argument("--out", metavar="PICTURE", help="write the rebuilt frame here")
    p.add_argument("--places", metavar="FILE.json", help="write where the corners are, in pixels from the upper left, here")
    for name, choices in (("y", ("down", "up")), ("centre", ("half", "zero")), ("units", ("pixels", "unit"))):
        p.add_argument(f"--{name}", choices=choices, help="take the numbers to be so, whatever the file says")
    return p


def main(arguments: list[str] | None = None) -> int:
    """Run it; the exit code."""
    given = sys.argv[1:] if arguments is None else arguments
    if given == ["--many"]:
        return _many()
    trouble = _rebuilt(given)
    if trouble:
        print(f"wertis-receiver: {trouble}", file=sys.stderr)
    return 1 if trouble else 0


def _many() -> int:
    """One frame after another: each line that comes in holds the options as a JSON list, each that goes out what is wrong, or an empty text."""
    for line in sys.stdin:
        try:
            said = _rebuilt(json.loads(line))
        except SystemExit:  # argparse, of options that it does not know
            said = "its options are wrong"
        print(json.dumps(said), flush=True)
    return 0


def _rebuilt(arguments: list[str]) -> str:
    """Rebuild a frame; what is wrong, or nothing."""
    a = parser().parse_args(arguments)
    try:
        plate = _picture(Path(a.plate))
        if not a.artwork and not a.shapes:
            raise Unreadable("artwork is needed (--artwork)")
        artwork = _picture(Path(a.artwork)) if a.artwork else plate
        corners = _corners(a.corners) if a.corners else None
        if a.motion.lower().endswith(".exr"):
            out, places = _through_map(Path(a.motion), plate, artwork, corners, a)
        elif a.mesh:
            if corners is None:
                raise Unreadable("a mesh needs the artwork's corners on the reference frame (--corners)")
            mesh = read_mesh(Path(a.motion), a.frame, (plate.shape[1], plate.shape[0]), lambda c: _believed(c, a))
            places = mesh.places * (np.array(plate.shape[1::-1]) / mesh.convention.size)
            out = draw.on_mesh(plate, artwork, mesh.convention.pixels(corners), mesh.home, places, mesh.triangles)
        elif a.camera:
            if not a.plane:
                raise Unreadable("a camera needs a plane to lay the artwork on (--plane)")
            out, places = _by_camera(Path(a.motion), plate, artwork, a)
        elif a.shapes:
            shapes = read_shapes(Path(a.motion), a.frame, (plate.shape[1], plate.shape[0]), lambda c: _believed(c, a))
            out = np.round(255 * filled(shapes, (plate.shape[1], plate.shape[0]))).astype(np.uint8)
            places = np.concatenate([s.curves[:, 0] for s in shapes])
        else:
            motion = read(Path(a.motion), (plate.shape[1], plate.shape[0]))
            motion.convention = _believed(motion.convention, a)
            places = corners_of(motion, a.frame, corners)
            scale = np.array(plate.shape[1::-1]) / motion.convention.size
            places = places * scale
            out = draw.on_corners(plate, artwork, places)
    except Unreadable as why:
        return str(why)
    if a.places:
        Path(a.places).write_text(json.dumps([[float(x), float(y)] for x, y in places]))
    if a.out and not cv2.imwrite(a.out, out):
        return f"{a.out} cannot be written"
    return ""


def _by_camera(path: Path, plate: np.ndarray, artwork: np.ndarray, a: argparse.Namespace) -> tuple[np.ndarray, np.ndarray]:
    """The plate with artwork on a plane of the scene, and where its corners are."""
    camera = read_camera(path, a.frame)
    if a.plane not in camera.planes:
        raise Unreadable(f"there is no plane named {a.plane}; there is: {', '.join(camera.planes) or 'none'}")
    quad = camera.planes[a.plane]
    scale = np.array(plate.shape[1::-1]) / camera.size
    # a grid on the plane, so that the lens may bend its lines
    u, v = (g.ravel()[:, None] for g in np.meshgrid(np.linspace(0, 1, _ACROSS + 1), np.linspace(0, 1, _ACROSS + 1)))
    square = np.array([[0, 0], [1, 0], [1, 1], [0, 1.0]])
    there = cv2.perspectiveTransform(np.stack([u, v], -1).reshape(1, -1, 2), _on_quad(quad))[0]
    first, across, down = quad[0], quad[1] - quad[0], quad[3] - quad[0]
    places = camera.seen(first + there[:, :1] * across + there[:, 1:] * down) * scale
    at = np.arange((_ACROSS + 1) ** 2).reshape(_ACROSS + 1, _ACROSS + 1)
    a_, b_, c_, d_ = (part.ravel() for part in (at[:-1, :-1], at[:-1, 1:], at[1:, 1:], at[1:, :-1]))
    triangles = np.concatenate([np.stack(t, 1) for t in ((a_, b_, c_), (a_, c_, d_))])
    out = draw.on_mesh(plate, artwork, square, np.hstack([u, v]), places, triangles)
    return out, camera.seen(quad) * scale


def _on_quad(quad: np.ndarray) -> np.ndarray:
    """(3, 3) from the unit square to shares of a flat quad's first and last side (4, 3), so that its own corners are met."""
    sides = np.stack([quad[1] - quad[0], quad[3] - quad[0]], axis=1)
    shares = np.linalg.lstsq(sides, (quad - quad[0]).T, rcond=None)[0].T
    return cv2.getPerspectiveTransform(np.array([[0, 0], [1, 0], [1, 1], [0, 1]], np.float32), shares.astype(np.float32))


def corners_of(motion: Motion, frame: int, corners: np.ndarray | None) -> np.ndarray:
    """(4, 2) where the artwork's corners are on a frame, in pixels from the upper left."""
    if motion.kind == "corners":
        found = motion.corners.get(frame)
    elif motion.kind == "matrices":
        if corners is None:
            raise Unreadable("matrices need the artwork's corners on the reference frame (--corners)")
        matrix = motion.matrices.get(frame)
        found = None if matrix is None else cv2.perspectiveTransform(corners[None], matrix)[0]
    else:
        rows = list(motion.points.values())[:4]
        if len(rows) < 4:
            raise Unreadable("four points carry a picture's corners")
        found = None if any(frame not in r for r in rows) else np.array([r[frame] for r in rows])
    if found is None:
        raise Unreadable(f"there is nothing for frame {frame}")
    return motion.convention.pixels(found)


def _through_map(path: Path, plate: np.ndarray, artwork: np.ndarray, corners: np.ndarray | None, a: argparse.Namespace) -> tuple[np.ndarray, np.ndarray]:
    import OpenImageIO as oiio

    if corners is None:
        raise Unreadable("a map needs the artwork's corners on the reference frame (--corners)")
    source = oiio.ImageInput.open(str(path))
    if source is None:
        raise Unreadable(f"{path.name}: {oiio.geterror()}")
    said = source.spec().getattribute("wertis:layout")
    pixels = np.asarray(source.read_image(oiio.FLOAT))
    source.close()
    body: dict = json.loads(str(said)) if said else {"size": plate.shape[1::-1], "y_up": False, "centre": "half", "units": "pixels"}
    w, h = body.get("receiver") or body["size"]
    convention = _believed(Convention((int(w), int(h)), bool(body["y_up"]), body["centre"] == "zero", body["units"] == "unit"), a)
    return draw.by_map(plate, artwork, convention.pixels(corners), convention.pixels(pixels[..., :2]), pixels[..., 3]), convention.pixels(corners)


def _believed(convention: Convention, a: argparse.Namespace) -> Convention:
    return Convention(convention.size, convention.y_up if a.y is None else a.y == "up", convention.zero if a.centre is None else a.centre == "zero",
                      convention.unit if a.units is None else a.units == "unit")


def _picture(path: Path) -> np.ndarray:
    found = cv2.imread(str(path), cv2.IMREAD_UNCHANGED)
    if found is None:
        raise Unreadable(f"{path.name} is no picture that can be read")
    if found.dtype == np.uint16:
        found = (found / 257).round().astype(np.uint8)
    return found if found.ndim == 3 else np.repeat(found[..., None], 3, 2)


def _corners(text: str) -> np.ndarray:
    try:
        found = np.array([[float(v) for v in pair.split(",")] for pair in text.split()])
    except ValueError as why:
        raise Unreadable(f"{text} is no list of points") from why
    if found.shape != (4, 2):
        raise Unreadable(f"{len(found)} corners where four are wanted")
    return found
