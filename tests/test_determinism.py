"""The same input gives the same bits: with one thread or many, beside a load, again and again."""

import os
import subprocess
import sys
import tempfile
import threading
import unittest
from pathlib import Path

import numpy as np

from tests.scenes import FramesPlate, PlaneShot
from tests.test_camera import SIZE as CAMERA_SIZE
from tests.test_camera import scene, tracks_of
from tests.test_check import drifting
from wertis.core.jobs.check import check_track
from wertis.core.plate import open_plate
from wertis.core.track.camera import solve_camera
from wertis.core.track.run import track_plane

ROOT = Path(__file__).resolve().parent.parent

# shaken and blurred, so that frames get a second look in a thread of their own
SCRIPT = """
import hashlib
from tests.scenes import FramesPlate, PlaneShot
from wertis.core.blas import single_threaded
from wertis.core.track.run import track_plane
made = PlaneShot(n=14, shake=7.0, shutter=0.5)
digest = hashlib.sha256()
with single_threaded():
    for frame, fix in track_plane(FramesPlate(made.frames), made.region, 0, range(1, 14)):
        digest.update(f"{frame} {fix.error!r} {fix.seen!r}".encode() + (fix.matrix.tobytes() if fix.matrix is not None else b"-"))
print(digest.hexdigest())
"""


class DeterminismTest(unittest.TestCase):
    def test_with_one_thread_or_many(self) -> None:
        digests = set()
        for threads in ("1", "4"):
            names = ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS", "MKL_NUM_THREADS", "OPENCV_FOR_THREADS_NUM")
            done = subprocess.run([sys.executable, "-c", SCRIPT], capture_output=True, text=True, cwd=ROOT, timeout=120,
                                  env={**os.environ, **dict.fromkeys(names, threads), "PYTHONPATH": f"{ROOT / 'src'}:{ROOT}"})
            self.assertEqual(done.returncode, 0, done.stderr)
            digests.add(done.stdout.strip())
        self.assertEqual(len(digests), 1)

    def test_a_library_that_is_loaded_inside_keeps_one_thread_too(self) -> None:
        """SciPy brings linear algebra of its own, which is loaded when something of it is first used."""
        script = ("from wertis.core.blas import single_threaded\nimport sys\nwith single_threaded():\n"
                  "    assert 'scipy.linalg' not in sys.modules\n    import scipy.linalg.lapack\n    from threadpoolctl import threadpool_info\n"
                  "    inside = [i['num_threads'] for i in threadpool_info() if i['user_api'] == 'blas']\n"
                  "after = [i['num_threads'] for i in threadpool_info() if i['user_api'] == 'blas']\nprint(len(inside), set(inside), set(after))")
        done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, timeout=60,
                              env={**os.environ, "OPENBLAS_NUM_THREADS": "3", "PYTHONPATH": str(ROOT / "src")})
        self.assertRegex(done.stdout, r"^[2-9] \{1\} ", done.stderr)

    def test_a_camera_is_solved_with_the_same_bits(self) -> None:
        """What pycolmap samples at random is seeded, and one thread adds up."""
        over, found = threading.Event(), []

        def load() -> None:
            while not over.is_set():
                np.linalg.svd(np.ones((60, 60)))

        thread = threading.Thread(target=load)
        for busy in (False, True):
            if busy:
                thread.start()
            found.append(solve_camera(tracks_of(scene()[:120], wandering=20), CAMERA_SIZE))
        over.set()
        thread.join()
        self.assertEqual(found[0].focal, found[1].focal)
        np.testing.assert_array_equal(found[0].points, found[1].points)
        for frame, pose in found[0].poses.items():
            np.testing.assert_array_equal(pose, found[1].poses[frame])

    def test_beside_a_load_answers_come_out_the_same_and_in_the_same_order(self) -> None:
        made = PlaneShot(n=14, shake=7.0, shutter=0.5)

        def answers() -> list[tuple[int, bytes]]:
            return [(frame, fix.matrix.tobytes() if fix.matrix is not None else b"")
                    for frame, fix in track_plane(FramesPlate(made.frames), made.region, 0, range(1, 14))]

        quiet = answers()
        end = threading.Event()

        def load() -> None:
            rng = np.random.default_rng(1)
            while not end.is_set():
                np.linalg.svd(rng.normal(size=(60, 60)))

        threads = [threading.Thread(target=load) for _ in range(3)]
        for t in threads:
            t.start()
        try:
            self.assertEqual(answers(), quiet)
        finally:
            end.set()
            for t in threads:
                t.join()

    def test_drift_is_the_same_each_time(self) -> None:
        made = PlaneShot(n=7, shake=6.0, shutter=0.5)
        with tempfile.TemporaryDirectory() as name:
            shot = drifting(made, made.write(Path(name) / "plate"))
            plate = open_plate(Path(name) / "plate")

            def measured() -> list[tuple[int | None, bytes]]:
                return [(e.frame, e.item.slip.tobytes()) for e in check_track(shot, shot.tracks[0], plate, range(1001, 1008))]

            self.assertEqual(measured(), measured())


if __name__ == "__main__":
    unittest.main()
