"""Damaged files: python bench/damaged.py [COUNT]. Each must be refused with Wertis' own error or opened with what is sound: no crash, no hang over
five seconds, no memory beyond the budget plus 500 MB.

Shot files, corner pins and pictures are damaged (bytes flipped, cut short, numbers made huge, paths that climb) and read in child processes, so that a
crash of a library is seen as well.
"""

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
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

import numpy as np

from wertis.core.errors import WertisError
from wertis.core.shot.resolve import motion_of

SLOW = 5.0  # seconds
MOST_MEMORY = (2048 + 500) << 20
BATCH = 250


def sound_files(folder: Path) -> list[Path]:
    """One sound file of every kind that is read."""
    from tests.scenes import PlaneShot

    from wertis.core.exchange import corner_pin_csv, corner_pin_json
    from wertis.core.exchange.pictures import write_picture
    from wertis.core.geometry.motion import Fix
    from wertis.core.plate import open_plate
    from wertis.core.repair.extra import ExtraValues
    from wertis.core.shot import bends, edits, extra_moves, items, repairs, store
    from wertis.core.shot.document import Placement

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
    from wertis.core.jobs.export import export_corner_pin
    export_corner_pin(shot, shot.tracks[0], shot.item(placement.id, Placement), folder / "pin.json")
    assert corner_pin_json.read(folder / "pin.json").sides
    small = made.frames[0][:60, :80]
    for suffix, pixels in ((".png", small), (".tif", small), (".jpg", small), (".exr", small.astype(np.float16)), (".dpx", small)):
        write_picture(folder / f"picture{suffix}", pixels)
    return [folder / name for name in ("s.wertis", "pin.csv", "pin.json", *(f"picture{x}" for x in (".png", ".tif", ".jpg", ".exr", ".dpx")))]


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


def read(path: Path) -> str:
    """Read a file as Wertis does; whether it was opened or refused."""
    from wertis.core.exchange import corner_pin_csv, corner_pin_json
    from wertis.core.plate.sequence import read_picture
    from wertis.core.shot import store

    try:
        if path.suffix == ".wertis":
            shot = store.load(path)
            for track in shot.tracks:  # what is opened must be usable
                motion = motion_of(track)
                warp = motion.at(1002) if motion is not None else None
                if warp is not None:
                    warp.forward(track.region.array)
                for placement in shot.placements(track.id):
                    placement.bend.at(1002)
        elif path.suffix == ".csv":
            corner_pin_csv.read(path)
        elif path.suffix == ".json":
            corner_pin_json.read(path)
        else:
            read_picture(path)
    except WertisError:
        return "refused"
    return "opened"


def child(folder: Path, seed: int, count: int) -> None:
    """Damage and read `count` files; every one is said before it is read."""
    files = sorted((folder / "sound").iterdir())
    rng = random.Random(seed)
    np.seterr(all="ignore")
    for k in range(count):
        source = rng.choice([f for f in files if f.is_file()])
        path = folder / f"d{seed}{source.suffix}"
        path.write_bytes(damaged(source.read_bytes(), source.suffix, rng))
        print(f"{k} {source.name}", end=" ", flush=True)
        begun = time.perf_counter()
        signal.alarm(20)
        outcome = read(path)
        signal.alarm(0)
        took = time.perf_counter() - begun
        print(f"{outcome} {took:.3f} {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss << 10}", flush=True)


def main(count: int) -> int:
    """All of them, in batches; the exit code says whether all went well."""
    tally: dict[str, int] = {}
    slowest, most, bad = 0.0, 0, []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "sound").mkdir()
        sound_files(folder / "sound")
        done, seed = 0, 0
        while done < count:
            seed += 1
            batch = min(BATCH, count - done)
            run = subprocess.run([sys.executable, __file__, "--child", str(folder), str(seed), str(batch)], capture_output=True, text=True)
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
        child(Path(sys.argv[2]), int(sys.argv[3]), int(sys.argv[4]))
    else:
        raise SystemExit(main(int(sys.argv[1]) if len(sys.argv) > 1 else 10_000))
