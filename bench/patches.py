"""Clean plates of a surface that something passes, beside the truth: the demo's crate with its rope and barrow, and the same film without them.

    python bench/patches.py [FOLDER ...]

With folders (f.0001.png ... and truth.json as for bench/drift.py, or `points` of a mesh), a patch is taken out of the start frame of each and given back
unpainted on all others, matched, over the track that Wertis makes: the film itself is the truth, since nothing was painted. Beside it one that only goes
along, without being matched, and how far two neighbouring frames differ there by their grain, which is nobody's fault.

Without folders, differences are means of absolute values in 255ths, of the comp with the clean plate, tracked by Wertis, against the film without
passers: inside the patch where something passes, and where nothing does; beside them a plain median over time (NumPy) of the same frames laid flat.
"""

import json
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np

import wertis
from wertis.core.comp.patch_pictures import flattened
from wertis.core.geometry import homography
from wertis.core.plate.base import to_float
from wertis.demo import scene as scenes
from wertis.demo.make import FILMS

FRAMES = 40


def main() -> None:
    film = replace(next(f for f in FILMS.values() if f.passers == "barrow"), frames=FRAMES)
    with_, without = scenes.Scene(film), scenes.Scene(replace(film, passers="nothing"))
    without._grain = np.zeros_like(without._grain)
    folder = Path(tempfile.mkdtemp())
    truth = []
    for k in range(FRAMES):
        cv2.imwrite(str(folder / f"p.{k + 1001:04d}.png"), with_.frame(k)[..., ::-1])
        truth.append(without.frame(k))
    onto = homography.from_unit_square(with_.truth(0))
    region, corners = (homography.apply(onto, np.array(q)) for q in (
        [[0.04, 0.05], [0.96, 0.05], [0.96, 0.95], [0.04, 0.95]], [[0.1, 0.1], [0.9, 0.1], [0.9, 0.9], [0.1, 0.9]]))
    shot = wertis.open(folder)
    crate = shot.track(region, 1001)
    patch = crate.take_out(1001, corners)
    begun = time.perf_counter()
    words = patch.clean_plate()
    spent = time.perf_counter() - begun
    patch.change(cover="all", soft=2.0)
    patch.match(["light", "shutter", "focus"])
    document = shot.document
    record = patch.record
    median = np.median([flattened(document, record, f, shot.plate.read(f)) for f in range(1001, 1001 + FRAMES)], axis=0)
    flat = np.median([np.abs(median - flattened(document, record, 1001 + k, truth[k])).mean(2) for k in range(0, FRAMES, 4)], axis=0)
    off: dict[str, list[float]] = {"passed": [], "bare": [], "plate": []}
    for k in range(FRAMES):
        comp, plate = (to_float(x) for x in (shot.frame(1001 + k), shot.plate.read(1001 + k)))
        inside = np.zeros(comp.shape[:2], np.uint8)
        quad = patch.corners(1001 + k)
        if quad is None:
            continue
        cv2.fillConvexPoly(inside, np.round(quad + (quad.mean(0) - quad) * 0.02).astype(np.int32), 1)
        passed = (np.abs(plate - truth[k] / 255.0).max(2) > 0.06) & (inside > 0)
        passed = cv2.morphologyEx(passed.astype(np.uint8), cv2.MORPH_OPEN, np.ones((3, 3))) > 0
        difference = 255 * np.abs(comp - truth[k] / 255.0).mean(2)
        for name, where, values in (("passed", passed, difference), ("bare", (inside > 0) & ~passed, difference),
                                    ("plate", passed, 255 * np.abs(plate - truth[k] / 255.0).mean(2))):
            if where.sum() > 50:
                off[name].append(float(values[where].mean()))
    print(f"{words}; {spent:.1f} s for {FRAMES} frames, flat picture {record.size[0]} x {record.size[1]}")
    print(f"where something passes: {np.mean(off['passed']):.2f} / 255 (the plate itself {np.mean(off['plate']):.1f}), "
          f"worst frame {np.max(off['passed']):.2f}; elsewhere {np.mean(off['bare']):.2f}; a plain median of the flat frames {255 * flat.mean():.2f}")


def given_back(folder: Path) -> None:
    """A patch of the shot in a folder over all its frames."""
    truth = json.loads((folder / "truth.json").read_text())
    start, region = truth["start"], np.array(truth["region"], float)
    shot = wertis.open(folder)
    surface = shot.track(region, start, "perspective" if truth["kind"] == "planar" else "mesh")
    box = cv2.boxPoints(cv2.minAreaRect(region.astype(np.float32)))
    quad = region if len(region) == 4 else box.astype(float)
    quad = quad.mean(0) + 0.8 * (quad - quad.mean(0))
    patch = surface.take_out(start, quad).change(cover="all", soft=2.0)
    rows = {"only carried": _differences(shot, surface, quad, start)}
    patch.match()
    rows["matched"] = _differences(shot, surface, quad, start)
    patch.match(["grain"])  # of the film, for the line below
    grain = patch.record.match.grain
    own = 255 * float(np.mean(grain.deviations)) * np.sqrt(4 / np.pi) if grain is not None else 0.0
    words = "; ".join(f"{name}: mean {np.mean(v):.2f}, worst frame {np.max(v):.2f}" for name, v in rows.items())
    print(f"{folder.name}: {len(rows['matched'])} frames; {words}; two lots of its grain differ by {own:.2f}", flush=True)


def _differences(shot: wertis.Shot, surface: wertis.Surface, quad: np.ndarray, start: int) -> list[float]:
    """Mean absolute difference in 255ths from the plate inside a quad on all frames but the first, where the quad is in the picture."""
    low, high = shot.range
    places, out = surface.follow(quad, start), []
    for frame in range(low, high + 1):
        corners = places.get(frame)
        if frame == start or corners is None or not np.isfinite(corners).all():
            continue
        plate, comp = to_float(shot.plate.read(frame)), to_float(shot.frame(frame))
        inside = cv2.fillConvexPoly(np.zeros(plate.shape[:2], np.uint8), np.round(corners + (corners.mean(0) - corners) * 0.04).astype(np.int32), 1) > 0
        if inside.sum() > 500:
            out.append(255 * float(np.abs(comp - plate)[inside].mean()))
    return out


if __name__ == "__main__":
    for name in sys.argv[1:]:
        given_back(Path(name))
    if not sys.argv[1:]:
        main()
