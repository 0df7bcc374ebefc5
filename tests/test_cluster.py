"""Work shared out among processes: the same bits, whoever makes them and whoever is killed."""

import contextlib
import io
import itertools
import multiprocessing
import os
import shutil
import signal
import tempfile
import time
import unittest
from collections.abc import Callable
from pathlib import Path
from unittest import mock

import cv2
import numpy as np
import OpenImageIO as oiio

import wertis
from tests.scenes import PlaneShot
from wertis.cli.main import main
from wertis.core.errors import WertisError
from wertis.core.files import clear_leftovers, replacing
from wertis.core.imaging import parallel
from wertis.core.jobs.events import Event
from wertis.scripting import cluster as clusters
from wertis.scripting.cluster import Cluster


class ClusterTest(unittest.TestCase):
    made: PlaneShot
    cluster: Cluster

    @classmethod
    def setUpClass(cls) -> None:
        # tests that run side by side run in daemons, which Python allows no processes of their own
        patched = mock.patch.dict(multiprocessing.current_process()._config, daemon=False)  # type: ignore[attr-defined]
        patched.start()
        cls.addClassCleanup(patched.stop)
        cls.made = PlaneShot(n=24)
        cls.base = Path(tempfile.mkdtemp())
        cls.addClassCleanup(shutil.rmtree, cls.base)
        plate = cls.made.write(cls.base / "wall")
        cv2.imwrite(str(cls.base / "art.png"), np.full((40, 60, 3), (30, 120, 220), np.uint8))
        shot = wertis.open(plate)
        wall = shot.track(cls.made.region, 1001, name="Wall")
        wall.place(cls.base / "art.png", cls.made.region, 1001).match(["softness", "grain"])
        cls.saved = shot.save(cls.base / "wall.wertis")
        shot.render(cls.base / "one" / "c.####.png")
        cls.cluster = Cluster(workers=2, chunk=2)  # its processes take seconds to start, and those that are killed are started again
        cls.addClassCleanup(cls.cluster.close)

    def assert_same(self, folder: Path) -> None:
        there = sorted(p.name for p in folder.iterdir())
        self.assertEqual(there, sorted(p.name for p in (self.base / "one").iterdir()), "all frames, and nothing half written")
        for name in there:
            self.assertEqual((folder / name).read_bytes(), (self.base / "one" / name).read_bytes(), name)

    def test_two_processes_make_the_same_files(self) -> None:
        seen: list[int | None] = []
        left = wertis.open(self.saved).render(self.base / "two" / "c.####.png", cluster=self.cluster, progress=lambda e: seen.append(e.frame))
        self.assertEqual((left, sorted(f for f in seen if f is not None)), ({}, list(range(1001, 1025))))
        self.assert_same(self.base / "two")
        with self.assertRaisesRegex(WertisError, "one file"):
            wertis.open(self.saved).render(self.base / "m.mp4", cluster=self.cluster)
        (self.base / "gone").mkdir()
        shot = wertis.open(self.saved)
        shutil.copy(self.base / "art.png", self.base / "nothing.png")
        shot.surface("Wall").place(self.base / "nothing.png", self.made.region, 1001)
        (self.base / "nothing.png").unlink()
        with self.assertRaisesRegex(WertisError, "nothing.png"):
            shot.render(self.base / "gone" / "c.####.png", cluster=self.cluster)

    def killing(self, every: int, most: int) -> tuple[Callable[[Event], None], list[int]]:
        """Something to tell of progress, that ends by SIGKILL the first process that is at work, at the first event and then at every so many; and the
        numbers of those that were ended."""
        killed: list[int] = []
        events = itertools.count()

        def told(event: Event) -> None:
            if next(events) % every or len(killed) >= most:
                return
            process = next((p for w in self.cluster._own.workers.values() if (p := getattr(w, "process", None)) is not None and p.pid), None)
            if process is not None:
                with contextlib.suppress(ProcessLookupError):
                    os.kill(process.pid, signal.SIGKILL)
                    killed.append(process.pid)

        return told, killed

    def test_a_killed_process_loses_nothing(self) -> None:
        told, killed = self.killing(9, 4)
        for name in ("killed", "again"):
            wertis.open(self.saved).render(self.base / name / "c.####.png", cluster=self.cluster, progress=told)
        self.assertTrue(killed)
        for name in ("killed", "again"):
            self.assert_same(self.base / name)

    def test_dense_motion_drift_and_maps_are_the_same_bits_whoever_is_killed(self) -> None:
        def all_of(name: str, cluster: Cluster | None, told: Callable[[Event], None] | None = None) -> tuple[dict[str, bytes], list[bytes]]:
            shot = wertis.open(self.saved)
            shot.range = (1001, 1007)
            folder = self.base / name
            folder.mkdir(exist_ok=True)
            dense = shot.add(self.made.region, 1004, "Dense", "dense", keep=folder / "dense")
            dense.track(cluster=cluster, progress=told)
            drift = [*shot.surface("Wall").check(cluster=cluster, progress=told).by_frame.values()]
            drift += dense.check(frames=[1001, 1007], cluster=cluster, progress=told).by_frame.values()
            shot.surface("Wall").export_motion(folder / "map.####.exr", "map", cluster=cluster, y_up=True, progress=told)
            fields = {}
            for path in sorted((folder / "dense").iterdir()):  # of the EXR files the pixels: their heads hold the time of writing
                source = oiio.ImageInput.open(str(path))
                fields[path.name] = np.asarray(source.read_image(oiio.FLOAT)).tobytes()
                source.close()
            maps = {p.name: p.read_bytes() for p in sorted(folder.glob("map.*"))}
            self.assertEqual(len(maps), 7)
            self.assertEqual(len(fields), 6 + 7)
            return {**fields, **maps}, [s.slip.tobytes() + s.uncertainty.tobytes() for s in drift]

        (self.base / "robbed" / "dense").mkdir(parents=True)
        (self.base / "robbed" / "dense" / ".to.1004-abcd1234.exr").write_bytes(b"half")  # of a worker that was killed while it wrote
        alone = all_of("alone", None)
        self.assertEqual(all_of("shared", self.cluster) == alone, True)
        told, killed = self.killing(5, 4)
        self.assertEqual(all_of("robbed", self.cluster, told) == alone, True)
        self.assertTrue(killed)

    def test_several_tracks_at_a_time(self) -> None:
        shot = wertis.open(self.saved)
        region = self.made.region
        two = [shot.add(region * 0.8 + region.mean(0) * 0.2, 1003, "A"), shot.add(region, 1010, "B", "affine")]
        shot.track_all(two, self.cluster)
        for surface in two:
            alone = wertis.open(self.saved).track(surface.record.region.array, surface.record.region.frame, surface.record.settings.model)
            np.testing.assert_array_equal(surface.record.solution.matrices, alone.record.solution.matrices)

    def test_by_the_command_line(self) -> None:
        shot = wertis.open(self.saved)
        shot.range = (1001, 1006)
        short = str(shot.save(self.base / "short.wertis"))
        with contextlib.redirect_stdout(io.StringIO()):
            theirs = ["--cluster", self.cluster._own.scheduler_address, "--chunk", "2"]
            for k, (shared, own) in enumerate((([], []), (theirs, ["--workers", "2", "--chunk", "2"]))):
                self.assertEqual(main(["check", short, "--track", "Wall", "--csv", str(self.base / f"d{k}.csv"), "--quiet", *shared]), 0)
                self.assertEqual(main(["export", short, "--track", "Wall", "--what", "inverse-map", "--out", str(self.base / f"m{k}.####.exr"),
                                       *shared]), 0)
                self.assertEqual(main(["track", str(self.base / "wall"), "--start", "1001", "--range", "1001-1003", "--model", "dense", "--keep",
                                       str(self.base / f"k{k}"), "--quiet", *own]), 0)
        self.assertEqual((self.base / "d0.csv").read_bytes(), (self.base / "d1.csv").read_bytes())
        self.assertEqual((self.base / "m0.1005.exr").read_bytes(), (self.base / "m1.1005.exr").read_bytes())
        self.assertEqual(sorted(p.name for p in (self.base / "k0").iterdir()), sorted(p.name for p in (self.base / "k1").iterdir()))
        with contextlib.redirect_stderr(io.StringIO()) as complaint:
            self.assertEqual(main(["track", str(self.base / "wall"), "--start", "1001", "--model", "dense", "--workers", "2"]), 1)
        self.assertIn("--keep", complaint.getvalue())
        for call in (["track", str(self.base / "wall"), "--start", "1001", "--region", "1,1 90,1 90,90", "--out", "x.csv", "--workers", "2"],
                     ["export", str(self.saved), "--track", "Wall", "--what", "corners", "--out", "x.csv", "--workers", "2"]):
            with contextlib.redirect_stderr(io.StringIO()) as complaint:
                self.assertEqual(main(call), 1)
            self.assertIn("--workers and --cluster share out", complaint.getvalue())

    def test_a_list_is_done_by_a_scheduler_that_runs_elsewhere(self) -> None:
        address = self.cluster._own.scheduler_address
        (self.base / "list.toml").write_text(f'''out = "night"
[defaults]
check = false
[[shots]]
name = "quay_010"
shot = "{self.saved}"
[[shots]]
name = "quay_020"
plate = "{self.base}/gone"
start = 1001
region = [[1, 1], [9, 1], [9, 9]]
''')
        with contextlib.redirect_stdout(io.StringIO()) as said:
            self.assertEqual(main(["run", str(self.base / "list.toml"), "--cluster", address]), 3)
            self.assertEqual(main(["render", str(self.saved), "--out", str(self.base / "far" / "c.####.png"), "--cluster", address,
                                   "--map", f"{self.base}={self.base}", "--quiet"]), 0)
        self.assertRegex(said.getvalue(), "(?s)quay_020: .*gone.*1 of 2 shots done")
        self.assert_same(self.base / "far")
        self.assertTrue((self.base / "night" / "report.html").is_file())

    def test_what_does_not_fit_is_refused(self) -> None:
        with Cluster(self.cluster._own.scheduler_address) as cluster:
            with mock.patch.object(clusters, "version", lambda _: "0.0.1"), self.assertRaisesRegex(WertisError, "has Wertis .* and this is 0.0.1"):
                cluster._same_version()
            cluster._folders = (("/here", "/there/"),)
            self.assertEqual(cluster.there("/here/a/b.png"), "/there/a/b.png")
            self.assertEqual(cluster.there("/hereafter/b.png"), "/hereafter/b.png")
        with mock.patch.object(clusters, "_PATIENCE", 1):
            begun = time.monotonic()
            with self.assertRaisesRegex(WertisError, "does not answer"):
                Cluster("tcp://127.0.0.1:9")
            self.assertLess(time.monotonic() - begun, 30)
        with contextlib.redirect_stderr(io.StringIO()) as complaint:
            self.assertEqual(main(["run", "list.toml", "--cluster", "tcp://127.0.0.1:9", "--map", "wrong"]), 1)
        self.assertIn("/here=/there", complaint.getvalue())

    def test_what_a_killed_writer_left_is_taken_away_and_nothing_else(self) -> None:
        folder = self.base / "left"
        folder.mkdir()
        names = (".c.0001-abcd1234.png", "c.0001.png", ".c.0002-abcd1234.png", ".c.0001-abcd.png", ".hidden", ".c.0001-abcd1234.exr")
        for name in names:
            (folder / name).write_bytes(b"x")
        clear_leftovers([folder / "c.0001.png", self.base / "nowhere" / "c.0001.png"])
        self.assertEqual({p.name for p in folder.iterdir()}, set(names[1:]))
        begun = replacing(folder / "c.0003.png")
        left = begun.__enter__()  # a writer that is killed here
        clear_leftovers([folder / "c.0003.png"])
        self.assertFalse(left.exists())

    def test_threads_change_no_bits(self) -> None:
        shot = wertis.open(self.saved)
        self.addCleanup(parallel.use_threads, 2)
        pictures = []
        for threads in (1, 2, 3):
            parallel.use_threads(threads)
            pictures.append(shot.frame(1010))
        for picture in pictures[1:]:
            np.testing.assert_array_equal(picture, pictures[0])


if __name__ == "__main__":
    unittest.main()
