"""Shot files of every version that was ever written open and give the pictures and numbers that the version which wrote them gave.

The files in `golden/` were written by the versions themselves, with a track that is smoothed, repaired, moved and tracked again, bent sides, hold-outs and
mattes, as far as each version had them; beside each are the numbers and pictures that version gave.
"""

import shutil
import tempfile
import unittest
from pathlib import Path

import numpy as np

from tests.helpers import to_frame
from wertis.core.comp.picture import Compositor
from wertis.core.shot import bends, store
from wertis.core.shot.document import FORMAT_VERSION, RepairLayer, Shot
from wertis.core.shot.edits import opened, placement_on
from wertis.core.shot.hold_outs import HoldOutReader, shape_on
from wertis.core.shot.matte_alpha import matte_alpha
from wertis.core.shot.mattes import mattes_of
from wertis.core.shot.repairs import points_on
from wertis.core.shot.resolve import motion_of

GOLDEN = Path(__file__).resolve().parent / "golden"
FRAMES = range(1001, 1009)
PROBES = np.array([[25.0, 15], [70, 20], [66, 48], [22, 44], [45, 30]])


def or_nan(value: np.ndarray | None, shape: tuple[int, ...]) -> np.ndarray:
    return np.full(shape, np.nan) if value is None else value


def numbers(shot: Shot, times: np.ndarray) -> dict[str, np.ndarray]:
    """What is to be as it was: the same names as in the files of numbers."""
    track = shot.tracks[0]
    motion = motion_of(track)
    out = {"planes": np.array([or_nan(w.matrix if (w := motion.at(t)) is not None else None, (3, 3)) for t in times])}  # type: ignore[union-attr]
    for k, placement in enumerate(shot.placements(track.id)):
        out[f"quads{k}"] = np.array([or_nan(placement_on(shot, placement, t), (4, 2)) for t in times])
    out["handles"] = np.array([or_nan(bends.handles_on(shot, shot.placements(track.id)[1], f), (8, 2)) for f in FRAMES])
    for other in (t for t in shot.tracks if t.settings.kind != "plane"):  # a mesh with pegs, points, a plane by the camera
        warps = [motion_of(other).at(t) for t in times]  # type: ignore[union-attr]
        out[f"{other.settings.kind}_places"] = np.array([or_nan(w.forward(PROBES) if w is not None else None, PROBES.shape) for w in warps])
    if mattes_of(shot):
        out["mattes"] = np.array([matte_alpha(shot, m, f, (96, 64)) for m in mattes_of(shot) for f in (1001, 1005)])
    count = len(track.layer(RepairLayer).points)
    out["points"] = np.array([or_nan(points_on(track, f), (count, 2)) for f in FRAMES])
    for k, held in enumerate(shot.hold_outs(track.id)):
        if held.keys:
            out[f"held{k}"] = np.array([or_nan(shape_on(shot, held, f), (3, 2)) for f in FRAMES])
    if shot.hold_outs(track.id):
        reader = HoldOutReader(shot, track.id)
        out["mask"] = np.array([reader.mask(f, (96, 64)) for f in (1001, 1004)])
    assert shot.plate is not None
    plate, compositor = opened(shot.plate), Compositor()
    out["comps"] = np.array([compositor.comp(shot, plate.read(f), f, 3) for f in (1001, 1004, 1006, 1008)])
    return out


class GoldenTest(unittest.TestCase):
    def test_there_is_one_of_every_version(self) -> None:
        self.assertEqual({p.name for p in GOLDEN.glob("*.wertis")}, {f"version_{v}.wertis" for v in range(1, FORMAT_VERSION + 1)})

    def test_each_gives_what_it_gave(self) -> None:
        for file in sorted(GOLDEN.glob("*.wertis")):
            with self.subTest(file.name):
                self.compare(store.load(file), file)

    def test_each_is_the_same_when_saved_by_this_version_and_read_again(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            there = Path(folder) / "golden"
            shutil.copytree(GOLDEN, there)
            for file in sorted(GOLDEN.glob("*.wertis")):
                with self.subTest(file.name):
                    shot = store.load(there / file.name)
                    store.save(shot, there / "again.wertis")
                    self.assertEqual(store.load(there / "again.wertis"), shot)  # and so its numbers and pictures, which the test above compares

    def compare(self, shot: Shot, file: Path) -> None:
        with np.load(file.with_suffix(".npz"), allow_pickle=False) as wanted:
            times = wanted["times"]
            found = numbers(shot, times)
            self.assertEqual(set(found) | {"times"}, set(wanted.files))
            for name in found:
                if name in ("comps", "mask"):
                    np.testing.assert_array_equal(found[name], wanted[name], err_msg=f"{file.name}: {name}")
                elif name == "planes":
                    known = np.isfinite(wanted[name]).all((1, 2))
                    # the version that wrote a file knew nothing beyond its last frame; nothing else may have come or gone
                    np.testing.assert_array_equal(np.isfinite(found[name]).all((1, 2)), known)
                    for time, plane in zip(times[known], wanted[name][known], strict=True):
                        homogeneous = np.column_stack([PROBES, np.ones(len(PROBES))]) @ plane.T
                        np.testing.assert_allclose(to_frame(motion_of(shot.tracks[0]), PROBES, time), homogeneous[:, :2] / homogeneous[:, 2:], atol=1e-9)
                else:  # single precision rounds a full alpha by 6e-8; sums may be added up in another order
                    atol = 6e-8 if wanted[name].dtype == np.float32 else 1e-9
                    np.testing.assert_allclose(found[name], wanted[name], atol=atol, err_msg=f"{file.name}: {name}")


if __name__ == "__main__":
    unittest.main()
