"""Damaged files: python bench/damaged.py [COUNT [NAME ...]], of all kinds or of those that are named (s.wertis, mesh.usda, ...). Each must be refused
with Wertis' own error or opened with what is sound: no crash, no hang over five seconds, no memory beyond the budget plus 500 MB.

Files of every kind that is read are damaged (bytes flipped, cut short, numbers made huge, paths that climb) and read in child processes, so that a
crash of a library is seen as well.
"""

import functools
import io
import json
import random
import resource
import signal
import subprocess
import sys
import tempfile
import time
import zipfile
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

import numpy as np
from tests.scenes import PlaneShot

from wertis.core.errors import WertisError
from wertis.core.exchange import (
    animated_mesh,
    camera_json,
    camera_usd,
    coordinate_maps,
    corner_pin_csv,
    corner_pin_json,
    gltf,
    motion_fields,
    motion_json,
    points_csv,
    shapes_csv,
    shapes_json,
    shapes_svg,
)
from wertis.core.exchange.laid_out import mesh_in
from wertis.core.exchange.layout import Layout
from wertis.core.exchange.outlines import Outlines
from wertis.core.exchange.pictures import write_picture
from wertis.core.geometry.camera import SolvedCamera
from wertis.core.geometry.displacement_field import DisplacementField
from wertis.core.geometry.motion import Fix
from wertis.core.jobs.export import export_corner_pin
from wertis.core.plate import open_plate
from wertis.core.plate.sequence import read_picture
from wertis.core.repair.extra import ExtraValues
from wertis.core.shot import bends, edits, extra_moves, items, repairs, store
from wertis.core.shot.document import Placement
from wertis.core.shot.resolve import motion_of
from wertis.core.work import task_list

SLOW = 5.0  # seconds
MOST_MEMORY = (2048 + 500) << 20
BATCH = 250


def sound_files(folder: Path) -> list[Path]:
    """One sound file of every kind that is read."""
    made = PlaneShot(n=3)
    plate = made.write(folder / "plate")
    shot, track = edits.add_track(edits.new_shot(open_plate(plate), str(plate), "Damaged"), made.region, 1001)
    shot = edits.set_tracked(shot, track.id, {f: Fix(np.eye(3), 0.1, 1.0) for f in (1001, 1002, 1003)})
    placement = Placement(on=track.id, frame=1001, quad=edits.as_points(made.region))
    shot = items.add_item(shot, placement)
    shot = repairs.set_key(repairs.add_point(shot, track.id, made.region[0], 1001), track.id, 1003)
    shot = extra_moves.set_values(shot, track.id, 1003, ExtraValues(3))
    shot = bends.set_key(shot, placement.id, 1002)
    store.save(shot, folder / "s.wertis")
    corner_pin_csv.write_plain(folder / "pin.csv", {1: made.region, 2: made.region})
    export_corner_pin(shot, shot.tracks[0], shot.item(placement.id, Placement), folder / "pin.json")
    assert corner_pin_json.read(folder / "pin.json").sides
    small = made.frames[0][:60, :80]
    for suffix, pixels in ((".png", small), (".tif", small), (".jpg", small), (".exr", small.astype(np.float16)), (".dpx", small)):
        write_picture(folder / f"picture{suffix}", pixels)
    _motion_files(folder, made.region)
    return sorted(f for f in folder.iterdir() if f.is_file())


def _motion_files(folder: Path, region: np.ndarray) -> None:
    """Files of motion, meshes, points, shapes, cameras, dense motion, and a list of work."""
    layout, size = Layout(size=(320, 240)), (320, 240)
    body = motion_json.MotionFile(kind="matrices", layout=layout, track="W", fps=25.0, pixel_aspect=1.0, reference=1,
                                  frames={f: [float(v) for v in np.eye(3).ravel()] for f in (1, 2, 3)})
    for name in ("motion.json", "motion.csv"):
        motion_json.write(folder / name, body)
    mesh = animated_mesh.AnimatedMesh(size, 25.0, 1, region, np.array([[0, 1, 2], [0, 2, 3]]), {f: region + f for f in (1, 2, 3)})
    for suffix, write in ((".json", animated_mesh.write_json), (".usda", animated_mesh.write_usd), (".usdc", animated_mesh.write_usd),
                          (".glb", gltf.write_mesh), (".gltf", gltf.write_mesh)):
        write(folder / f"mesh{suffix}", mesh)
    animated_mesh.write_csv(folder / "mesh.csv", mesh_in(mesh, Layout(size=(320, 240), y_up=True, units="unit", first=1001, start=1)))
    animated_mesh.write_obj(folder / "mesh.obj", mesh)
    next(folder.glob("mesh.*.obj")).rename(folder / "mesh.obj")
    for rest in folder.glob("mesh.*.obj"):
        rest.unlink()
    ones = np.ones(len(region))
    outline = Outlines("Hand", "add", {f: region + f for f in (1, 2)}, ones, 0 * ones, 0 * ones)
    for name, written in (("shapes.json", shapes_json.write), ("shapes.csv", shapes_csv.write), ("shapes.svg", shapes_svg.write)):
        written(folder / name, layout, [outline])
    points_csv.write_frames(folder / "points.csv", {f: {str(k): p for k, p in enumerate(region)} for f in (1, 2)})
    poses = {f: np.eye(3, 4) for f in (1, 2)}
    camera = SolvedCamera(size, 300.0, np.array([160.0, 120]), (0.0, 0.0), poses, np.ones((5, 3)), np.arange(5), {1: 0.1, 2: 0.1})
    for name, put in (("camera.json", camera_json.write_camera), ("camera.usda", camera_usd.write_camera_usd), ("camera.glb", gltf.write_camera)):
        put(folder / name, camera, 25.0, {"W": np.ones((4, 3))}, layout)
    coordinate_maps.write_map(folder / "map.exr", np.ones((240, 320, 4), np.float32), layout, "for each pixel of the frame")
    motion_json.write(folder / "points.txt", body.model_copy(update={"kind": "points", "frames": {}, "tracks": {"a": {1: [3.0, 4, 1], 2: [4.0, 5, 1]}}}))
    field = DisplacementField((0, 0, 40, 30), np.ones((30, 40, 2), np.float32), np.ones((30, 40), np.float32), np.ones((30, 40), bool))
    motion_fields.write_field(folder / "field.exr", field, size)
    (folder / "field.flo").write_bytes(np.array([202021.25], "<f4").tobytes() + np.array([40, 30], "<i4").tobytes() + np.ones(2400, "<f4").tobytes())
    (folder / "list.toml").write_text('out = "night"\n[[shots]]\nname = "a"\nplate = "p.####.png"\nstart = 1\nregion = [[1, 1], [9, 1], [9, 9], [1, 9]]\n')


def damaged(data: bytes, suffix: str, rng: random.Random) -> bytes:
    """The bytes, damaged in one of several ways."""
    if suffix == ".wertis" and rng.random() < 0.7:
        return _damaged_inside(data, rng)
    way = rng.randrange(5)
    body = bytearray(data)
    if way == 0:
        for _ in range(rng.choice([1, 3, 30])):
            body[rng.randrange(len(body))] = rng.randrange(256)
    elif way == 1:
        del body[rng.randrange(len(body)):]
    elif way == 2:  # numbers made huge, as they stand in headers
        at = rng.randrange(min(len(body), 2200) - 4)
        body[at:at + 4] = rng.choice([b"\xff\xff\xff\xff", b"\x7f\xff\xff\xff", b"\xff\xff\xff\x7f", b"\x00\x00\x00\x00"])
    elif way == 3:
        at = rng.randrange(len(body))
        body[at:at] = bytes(rng.randrange(256) for _ in range(rng.choice([1, 100, 5000])))
    else:
        text = body.decode("latin-1")
        digits = [i for i, c in enumerate(text) if c.isdigit()]
        if digits:
            at = rng.choice(digits)
            text = text[:at] + rng.choice(["9" * 40, "-1", "nan", "1e999", "Infinity", ""]) + text[at + 1:]
        body = bytearray(text.encode("latin-1"))
    return bytes(body)


def _damaged_inside(data: bytes, rng: random.Random) -> bytes:
    """A shot file whose parts are damaged and put together again, so that the zip itself is sound."""
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as old, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as new:
        victim = rng.choice(old.namelist()) if rng.random() < 0.5 else "shot.json"
        for name in old.namelist():
            body = old.read(name)
            if name == victim and name == "shot.json":
                body = _damaged_document(json.loads(body), rng)
            elif name == victim:
                body = damaged(body, ".npy", rng)
            new.writestr(name, body)
    return out.getvalue()


def _damaged_document(document: dict, rng: random.Random) -> bytes:
    for _ in range(rng.choice([1, 1, 4])):
        node: object = document
        while True:  # walk to a random place
            keys = list(node) if isinstance(node, dict) else list(range(len(node))) if isinstance(node, list) else []
            if not keys:
                break
            key = rng.choice(keys)
            child = node[key]  # type: ignore[index]
            if not isinstance(child, dict | list) or not child or rng.random() < 0.2:
                if rng.random() < 0.15:
                    del node[key]  # type: ignore[attr-defined]
                else:
                    node[key] = rng.choice([None, -1, 10 ** 12, 1e308, float("nan"), "", "../" * 40 + "etc/passwd", "/dev/zero", "\x00", [], {},  # type: ignore[index]
                                            [[0, 0]] * 5, True, "x" * 5000, [0] * 2000])
                break
            node = child
    return json.dumps(document).encode()


def read(path: Path, name: str) -> str:
    """Read a file as Wertis reads the sound file of a name; whether it was opened or refused."""
    try:
        readers()[name](path)
    except WertisError:
        return "refused"
    return "opened"


@functools.cache
def readers() -> dict[str, Callable[[Path], object]]:
    """What reads each of the sound files."""
    return {"s.wertis": _read_shot, "pin.csv": corner_pin_csv.read, "pin.json": corner_pin_json.read,
            **{f"picture.{kind}": read_picture for kind in ("png", "tif", "jpg", "exr", "dpx")},
            **{f"motion.{kind}": lambda p: motion_json.read(p, Layout(size=(320, 240))) for kind in ("json", "csv")},
            "mesh.json": animated_mesh.read_json, "mesh.csv": animated_mesh.read_csv, "mesh.obj": animated_mesh.read_obj,
            "points.txt": lambda p: motion_json.read(p, Layout(size=(320, 240))), "map.exr": coordinate_maps.read_map,
            "mesh.glb": gltf.read_mesh, "mesh.gltf": gltf.read_mesh, "camera.glb": gltf.read_camera,
            "mesh.usda": animated_mesh.read_usd, "mesh.usdc": animated_mesh.read_usd,
            "shapes.json": shapes_json.read, "shapes.csv": shapes_csv.read, "shapes.svg": shapes_svg.read, "points.csv": points_csv.read_frames,
            "camera.json": camera_json.read_camera, "camera.usda": camera_usd.read_camera_usd,
            "field.exr": motion_fields.read_field, "field.flo": motion_fields.read_field, "list.toml": task_list.load}


def _read_shot(path: Path) -> None:
    """Load a shot, and use what is in it."""
    shot = store.load(path)
    for track in shot.tracks:
        motion = motion_of(track)
        warp = motion.at(1002) if motion is not None else None
        if warp is not None:
            warp.forward(track.region.array)
        for placement in shot.placements(track.id):
            placement.bend.at(1002)


def child(folder: Path, seed: int, count: int, names: list[str]) -> None:
    """Damage and read `count` files, of these kinds in turn; every one is said before it is read."""
    files = [folder / "sound" / name for name in names or readers()]
    rng = random.Random(seed)
    np.seterr(all="ignore")
    for k in range(count):
        source = files[k % len(files)]
        path = folder / f"d{seed}{source.suffix}"
        path.write_bytes(damaged(source.read_bytes(), source.suffix, rng))
        print(f"{k} {source.name}", end=" ", flush=True)
        begun = time.perf_counter()
        signal.alarm(20)
        outcome = read(path, source.name)
        signal.alarm(0)
        took = time.perf_counter() - begun
        print(f"{outcome} {took:.3f} {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss << 10}", flush=True)


def main(count: int, names: list[str]) -> int:
    """All of them, in batches; the exit code says whether all went well."""
    tally: dict[str, int] = {}
    slowest, most = 0.0, 0
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "sound").mkdir()
        sound_files(folder / "sound")
        bad = [f"{name}: refused while it is sound" for name in readers() if read(folder / "sound" / name, name) != "opened"]
        done, seed = 0, 0
        while done < count:
            seed += 1
            batch = min(BATCH, count - done)
            run = subprocess.run([sys.executable, __file__, "--child", str(folder), str(seed), str(batch), *names], capture_output=True, text=True)
            lines = run.stdout.splitlines()
            for line in lines:
                words = line.split()
                if len(words) < 5:
                    continue
                tally[words[2]] = tally.get(words[2], 0) + 1
                slowest, most = max(slowest, float(words[3])), max(most, int(words[4]))
                if float(words[3]) > SLOW:
                    bad.append(f"seed {seed}: {line} (slow)")
            if run.returncode:
                why = run.stderr.strip().splitlines()[-1:] or [f"exit {run.returncode}"]
                bad.append(f"seed {seed}: {lines[-1] if lines else '?'}: {why[0]}")
            done += batch
    print(f"{count} damaged files: {tally}; slowest {slowest:.2f} s, at most {most >> 20} MB; {len(bad)} went wrong")
    for line in bad[:20]:
        print("  ", line)
    return 1 if bad or most > MOST_MEMORY else 0


if __name__ == "__main__":
    if "--child" in sys.argv:
        child(Path(sys.argv[2]), int(sys.argv[3]), int(sys.argv[4]), sys.argv[5:])
    else:
        raise SystemExit(main(int(sys.argv[1]) if len(sys.argv) > 1 else 10_000, sys.argv[2:]))
