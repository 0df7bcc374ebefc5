"""Meshes: how exact and how quick on the demo's sail, beside dense optical flow from OpenCV; and a 4K comp with a bent graphic beside a flat one.

    python bench/meshes.py [FRAMES]

All in one run, since only ratios mean something on a machine that others use as well.
"""

import subprocess
import sys
import tempfile
import time
from itertools import pairwise
from pathlib import Path

import cv2
import numpy as np

from wertis.core.blas import single_threaded
from wertis.core.comp.lay import Reductions, lay
from wertis.core.exchange import points_csv
from wertis.core.geometry import homography
from wertis.core.geometry.mesh import Mesh, MeshWarp, laid
from wertis.core.geometry.warp import HomographyWarp, compose
from wertis.demo.sail import CLOTH, Sail, SailFilm


def rms(errors: np.ndarray) -> float:
    """Root mean square, in pixels; a point without an answer counts as 9999."""
    return float(np.sqrt(np.mean(np.minimum(np.nan_to_num(errors, nan=9999.0), 9999.0) ** 2)))


def tracking(frames: int) -> None:
    """The sail's points by `wertis track`, and by DIS flow from frame to frame, whole processes but for the start of Python."""
    sail = Sail(SailFilm(60, 21))
    w, h = CLOTH
    points = np.stack(np.meshgrid(np.linspace(.08, .92, 12) * w, np.linspace(.08, .92, 10) * h), -1).reshape(-1, 2)
    truth = [sail.seen(points, i) for i in range(frames)]
    seen = np.array([~sail.hidden(points, i) for i in range(frames)])
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for i in range(frames):
            cv2.imwrite(str(folder / f"sail.{i + 1:04d}.png"), sail.frame(i)[..., ::-1])
        region = sail.seen(np.array([[.03, .04], [.97, .04], [.97, .96], [.03, .96]]) * CLOTH, 0)
        (folder / "in.csv").write_text("id,x,y\n" + "".join(f"{k},{x},{y}\n" for k, (x, y) in enumerate(truth[0])))
        begin = time.perf_counter()
        subprocess.run([sys.executable, "-m", "wertis.cli.main", "track", str(folder), "--start", "1", "--region",
                        " ".join(f"{x},{y}" for x, y in region), "--model", "mesh", "--points", str(folder / "in.csv"), "--out",
                        str(folder / "out.csv"), "--quiet"], check=True)
        took = time.perf_counter() - begin
        found = points_csv.read_frames(folder / "out.csv")
        ours = np.array([[found.get(i + 1, {}).get(str(k), (np.nan, np.nan)) for k in range(len(points))] for i in range(frames)])
        begin = time.perf_counter()
        flow, at, theirs = cv2.DISOpticalFlow_create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM), truth[0] - 0.5, [truth[0]]
        grey = [cv2.imread(str(folder / f"sail.{i + 1:04d}.png"), cv2.IMREAD_GRAYSCALE) for i in range(frames)]
        for a, b in pairwise(grey):
            at = at + cv2.remap(flow.calc(a, b, None), *at.astype(np.float32).T[:, None], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)[0]
            theirs.append(at + 0.5)
        dis = time.perf_counter() - begin
    for who, got, seconds in (("wertis", ours, took), ("dis", np.array(theirs), dis)):
        away = np.linalg.norm(got - np.array(truth), axis=2)[seen]
        print(f"{who:7s} rms {rms(away):7.3f} px of {int(seen.sum())} points that are seen, {frames / seconds:5.1f} frames a second")
    print(f"speed, wertis over dis: {dis / took:.2f}")


def comp() -> None:
    """A graphic laid through a mesh of about 400 vertices on a 4K picture, and through a plane."""
    size = (3840, 2160)
    corners = np.array([[900.0, 500], [2900, 560], [2820, 1700], [960, 1640]])
    mask = cv2.fillPoly(np.zeros((size[1], size[0]), np.uint8), [np.array([[700, 350], [3100, 380], [3050, 1850], [760, 1820]])], 255)
    vertices = laid(mask, 98)
    bent = MeshWarp(Mesh(vertices), vertices + 30 * np.column_stack([np.sin(vertices[:, 1] / 200), np.cos(vertices[:, 0] / 260)]))
    square = HomographyWarp(homography.from_unit_square(corners))
    artwork = Reductions(np.random.default_rng(0).random((1200, 2000, 4), np.float32))
    seconds = {}
    with single_threaded():
        for name in ("flat", "bent") * 3:
            begin = time.perf_counter()
            lay(artwork, square if name == "flat" else compose(MeshWarp(bent.mesh, bent.places), square), size, 2)
            seconds[name] = min(seconds.get(name, np.inf), time.perf_counter() - begin)
    print(f"4K, {len(vertices)} vertices: flat {seconds['flat']:.3f} s, bent {seconds['bent']:.3f} s; "
          f"speed, bent over flat: {seconds['flat'] / seconds['bent']:.2f}")


if __name__ == "__main__":
    tracking(int(sys.argv[1]) if len(sys.argv) > 1 else 60)
    comp()
