"""A list of work done unattended: what is done is left alone, what fails is told, a template is found again, a kill loses nothing; the report."""

import base64
import io
import json
import os
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from contextlib import redirect_stderr, redirect_stdout
from html.parser import HTMLParser
from pathlib import Path

import cv2
import numpy as np
from skimage import data

import wertis
from tests.scenes import texture
from wertis.cli.main import main
from wertis.core.errors import WertisError
from wertis.core.exchange.pictures import write_picture
from wertis.core.geometry import homography
from wertis.core.work.carry_over import find_surface
from wertis.core.work.report import ShotReport, as_html
from wertis.core.work.task_list import fingerprint, load
from wertis.core.work.workers import free_memory, usual_workers

SIZE = (400, 300)
QUAD = np.array([[110.0, 70], [290, 76], [284, 220], [116, 214]])
FRAMES = range(1, 7)
WALL = cv2.resize(data.astronaut(), (720, 540), interpolation=cv2.INTER_AREA)


def moved(frame: int, view: np.ndarray) -> np.ndarray:
    k = frame - 1
    return homography.translation(1.7 * k, -1.1 * k) @ np.array([[1 + 0.003 * k, 0.002 * k, 0], [0, 1, 0], [1e-5 * k, 0, 1]]) @ view


def write_plate(folder: Path, view: np.ndarray, light: float | np.ndarray = 1.0, frames: range = FRAMES) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    rng = np.random.default_rng(3)
    for frame in frames:
        onto = moved(frame, view) @ homography.translation(-160, -120)
        seen = cv2.warpPerspective(WALL, onto, SIZE, flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT)
        write_picture(folder / f"p.{frame:04d}.png", np.clip(seen * light + rng.normal(0, 1, seen.shape), 0, 255).astype(np.uint8))


VIEWS = {"one": np.eye(3), "two": homography.translation(20, -10) @ np.array([[1.1, 0.08, 0], [-0.05, 1.05, 0], [1e-4, 5e-5, 1]]),
         "three": homography.translation(-30, 15) @ np.array([[0.85, -0.1, 20], [0.1, 0.9, 0], [0, 1e-4, 1]]),
         "four": homography.translation(40, 30) @ np.array([[0.75, 0.12, 10], [-0.15, 0.8, 20], [-1e-4, 2e-4, 1]]),
         "five": homography.translation(-60, -20) @ np.array([[1.25, -0.05, 0], [0.12, 1.2, 0], [2e-4, -1e-4, 1]]),
         "six": homography.translation(60, -40) @ np.array([[0.9, 0.25, 0], [-0.25, 0.95, 60], [0, 0, 1]])}
LIGHTS: dict[str, float | np.ndarray] = {
    "one": 1.0, "two": 0.8, "three": 1.15, "four": 0.45,  # of a lamp from the left, of an evening sky, and dim
    "five": np.linspace(1.3, 0.5, SIZE[0])[None, :, None], "six": np.array([1.1, 0.85, 0.6])}


class Case(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder, True)
        write_picture(self.folder / "art.png", texture(size=(90, 72)))

    def run_list(self, *more: str) -> tuple[int, str]:
        with redirect_stdout(io.StringIO()) as said:
            code = main(["run", str(self.folder / "list.toml"), *more])
        return code, said.getvalue()

    def write(self, text: str) -> None:
        (self.folder / "list.toml").write_text(text)

    def shot(self, name: str, **more: object) -> str:
        region = ", ".join(f"[{x}, {y}]" for x, y in QUAD)
        rows = {"plate": f"{name}/p.####.png", "start": 1, **more}
        body = "\n".join(f"{k} = {json.dumps(v)}" for k, v in rows.items())
        return f'[[shots]]\nname = "{name}"\nregion = [{region}]\n{body}\n'


class CheckReportTest(Case):
    def test_a_check_gives_a_page_with_the_slip_drawn(self) -> None:
        write_plate(self.folder / "a", np.eye(3))
        shot = wertis.open(self.folder / "a" / "p.####.png")
        wall = shot.add(QUAD, 1, "Wall")
        wall.track()
        solution = wall.record.solution
        off = homography.translation(6.0, 0.0)  # a slip of 6 px to the right on the last frames: measured, it points back to the left
        spoilt = np.array([off @ m if f >= 5 else m for f, m in zip(solution.frames, solution.matrices, strict=True)])
        shot._do("Spoil", shot.document.with_track(wall.record.but(solution=solution.but(matrices=spoilt))))
        shot.save(self.folder / "s.wertis")
        with redirect_stdout(io.StringIO()), redirect_stderr(io.StringIO()):
            self.assertEqual(main(["check", str(self.folder / "s.wertis"), "--quiet", "--limit", "1", "--report", str(self.folder / "checked")]), 4)
        body = json.loads((self.folder / "checked" / "report.json").read_text())["shots"][0]
        self.assertAlmostEqual(body["drift"]["5"], 6, delta=0.3)
        self.assertLess(body["drift"]["3"], 0.5)
        self.assertRegex(body["needs"][0], "drift over 1 px on 2 frames, worst 6")
        page = (self.folder / "checked" / "report.html").read_text()
        pictures = re.findall(r'alt="Wall, frame (\d+)[^"]*" src="data:image/png;base64,([^"]+)"', page)
        self.assertEqual(len(pictures), len({f for f, _ in pictures}))
        self.assertIn(int(pictures[0][0]), (5, 6))
        pixels = cv2.imdecode(np.frombuffer(base64.b64decode(pictures[0][1]), np.uint8), cv2.IMREAD_COLOR)[..., ::-1].astype(int)
        drawn = np.abs(pixels - [255, 96, 64]).max(axis=-1) < 12
        self.assertGreater(drawn.sum(), 4 * 40)  # four arrows of 60 px


class ListTest(Case):
    def test_a_list_with_broken_shots_is_done_but_for_them_and_left_alone_afterwards(self) -> None:
        for name in ("a", "b", "short"):
            write_plate(self.folder / name, np.eye(3))
        for frame in FRAMES[1:]:
            (self.folder / "short" / f"p.{frame:04d}.png").write_bytes(b"no picture")
        self.write('out = "night"\n[defaults]\nrepair = 0.3\n'
                   + self.shot("a", render="out/a.####.png", match=True, graphics=[]).replace("graphics = []", 'graphics = [{artwork = "art.png"}]\n'
                     'export = [{what = "corners", out = "out/a.json", y_up = true}]')
                   + self.shot("b") + self.shot("gone") + self.shot("short"))
        code, said = self.run_list("--workers", "2")
        self.assertEqual(code, 3)
        self.assertRegex(said, "gone: .*(does not exist|no .*|not)")
        self.assertIn("of 4 shots done", said)
        self.assertEqual(len(list((self.folder / "out").glob("a.*.png"))), 6)
        self.assertEqual(json.loads((self.folder / "out" / "a.json").read_text())["layout"]["y_up"], True)
        body = json.loads((self.folder / "night" / "report.json").read_text())
        states = {s["name"]: s for s in body["shots"]}
        self.assertEqual((states["a"]["state"], states["b"]["state"], states["gone"]["state"]), ("done", "done", "failed"))
        self.assertGreater(len(states["gone"]["error"]), 15)
        self.assertTrue(states["short"]["needs"] or states["short"]["state"] == "failed", "five frames that cannot be read need a person")
        self.assertLess(max(states["a"]["drift"].values()), 0.3)
        self.assertEqual(body["shots"][0]["name"], "gone", "what needs a person most comes first")
        # once more: nothing is done again
        times = {p: p.stat().st_mtime_ns for p in (self.folder / "out").iterdir()}
        _, said = self.run_list()
        self.assertEqual(said.count("done already"), 2 + (states["short"]["state"] == "done"))
        self.assertEqual(times, {p: p.stat().st_mtime_ns for p in (self.folder / "out").iterdir()})
        # one that is mended is done, and only that
        write_plate(self.folder / "gone", np.eye(3))
        _, said = self.run_list()
        self.assertIn("gone: done", said)
        self.assertIn("a: done already", said)

    def test_a_template_is_found_in_other_cameras_and_light(self) -> None:
        """Five shots of one surface begin from a template, are tracked, and measured, under 0.3 px without a person."""
        for name, view in VIEWS.items():
            write_plate(self.folder / name, view, LIGHTS[name])
        first = wertis.open(self.folder / "one" / "p.####.png")
        wall = first.track(QUAD, 1, name="Wall")
        wall.place(self.folder / "art.png", QUAD * 0.5 + QUAD.mean(0) * 0.5, 1, "Poster")
        first.save(self.folder / "one.wertis")
        self.write("".join(f'[[shots]]\nname = "{n}"\nplate = "{n}/p.####.png"\ntemplate = "one.wertis"\nlimit = 0.3\n' for n in list(VIEWS)[1:])
                   + '[[shots]]\nname = "other"\nplate = "other"\ntemplate = "one.wertis"\n')
        (self.folder / "other").mkdir()
        for frame in FRAMES:
            write_picture(self.folder / "other" / f"p.{frame:04d}.png", cv2.resize(data.brick(), SIZE)[..., None].repeat(3, 2))
        code, _ = self.run_list()
        self.assertEqual(code, 3)
        states = {s["name"]: s for s in json.loads((self.folder / "night" / "report.json").read_text())["shots"]}
        for name in list(VIEWS)[1:]:
            self.assertLess(max(states[name]["drift"].values()), 0.3, name)
            self.assertEqual((states[name]["state"], states[name]["needs"]), ("done", []))
            shot = wertis.open(self.folder / "night" / f"{name}.wertis")
            poster = shot.surface("Wall").placements[0]
            truth = homography.apply(VIEWS[name], QUAD * 0.5 + QUAD.mean(0) * 0.5)
            for frame in FRAMES:
                wanted = homography.apply(moved(frame, np.eye(3)), truth)
                self.assertLess(np.abs(poster.corners(frame) - wanted).max(), 0.3, name)
            self.assertEqual(poster.name, "Poster")
        self.assertEqual(states["other"]["state"], "failed")
        self.assertIn("not found in this plate", states["other"]["error"])
        with self.assertRaisesRegex(WertisError, "not found"):
            find_surface(first.document, wall.record, wertis.open(self.folder / "other").plate)

    def test_what_goes_out_of_several_surfaces_and_mattes(self) -> None:
        write_plate(self.folder / "a", np.eye(3))
        shot = wertis.open(self.folder / "a" / "p.####.png")
        wall = shot.track(QUAD, 1, name="Wall")
        shot.track(QUAD * 0.6 + QUAD.mean(0) * 0.4, 1, name="Door")
        shot.matte(QUAD * 0.5 + QUAD.mean(0) * 0.5, 1, wall, "Hand")
        shot.save(self.folder / "s.wertis")
        task = {"name": "a", "shot": "s.wertis", "check": False, "mattes": [{"of": "Hand", "out": "out/m.####.png"}],
                "export": [{"out": "out/pin.csv"}, {"what": "matrices", "out": "out/door.json", "track": "Door", "first": 101, "receiver": [800, 600]}]}
        (self.folder / "list.json").write_text(json.dumps({"shots": [task, {**task, "name": "b", "export": [{"out": "x.csv", "track": "Roof"}]}]}))
        with redirect_stdout(io.StringIO()) as said:
            self.assertEqual(main(["run", str(self.folder / "list.json")]), 3)
        self.assertIn("b: The shot has no surface named Roof to export; it has: Wall, Door.", said.getvalue())
        there = sorted(p.name for p in (self.folder / "out").iterdir())
        self.assertEqual(there, ["door.json", *(f"m.{f:04d}.png" for f in FRAMES), "pin.Door.csv", "pin.Wall.csv"])
        body = json.loads((self.folder / "out" / "door.json").read_text())
        self.assertEqual((body["track"], body["layout"]["receiver"], min(map(int, body["frames"]))), ("Door", [800, 600], 101))

    def test_a_kill_at_any_moment_ends_with_the_same_files(self) -> None:
        for name in ("a", "b"):
            write_plate(self.folder / name, np.eye(3))
        graphics = 'graphics = [{artwork = "art.png"}]\n'
        self.write(self.shot("a", render="out/a.####.png", check=False) + graphics + self.shot("b", render="out/b.####.png", check=False) + graphics)
        self.run_list()
        expected = {p.name: p.read_bytes() for p in sorted((self.folder / "out").iterdir())}
        self.assertEqual(len(expected), 12)
        rng = np.random.default_rng(5)
        for folder in ("out", "night"):
            shutil.rmtree(self.folder / folder)
        for _ in range(5):
            job = subprocess.Popen([sys.executable, "-m", "wertis.cli.main", "run", str(self.folder / "list.toml")], stdout=subprocess.DEVNULL,
                                   stderr=subprocess.DEVNULL, start_new_session=True)
            time.sleep(float(rng.uniform(0.5, 3.0)))
            os.killpg(job.pid, signal.SIGKILL)
            job.wait()
        code, said = self.run_list()
        self.assertEqual(code, 0, said)
        self.assertEqual({p.name: p.read_bytes() for p in sorted((self.folder / "out").iterdir())}, expected)
        # killed after its last frame, before it could say so
        kept = self.folder / "night" / "a.state.json"
        body = json.loads(kept.read_text())
        kept.write_text(json.dumps({**body, "report": {**body["report"], "state": "running"}}))
        code, said = self.run_list()
        self.assertEqual((code, "a: done\n" in said), (0, True), said)
        self.assertEqual({p.name: p.read_bytes() for p in sorted((self.folder / "out").iterdir())}, expected)


class TaskTest(Case):
    def test_what_is_wrong_in_a_list_is_named(self) -> None:
        for text, words in (("shots = 3", "shots"), ('[[shots]]\nname = "a"\n', "shot a.*a shot file or a plate"), ("x = [", "no list of work"),
                            (self.shot("a") + self.shot("a"), "two shots are named a"), (self.shot("a", modle="shift"), "shot a, modle"),
                            (self.shot("a", repair=-1), "shot a, repair"), ('[[shots]]\nname = "a/b"\nplate = "p"\n', "name"),
                            ('[[shots]]\nname = "a"\nplate = "p"\n', "start and region")):
            self.write(text)
            with self.assertRaisesRegex(WertisError, words):
                load(self.folder / "list.toml")
            with redirect_stderr(io.StringIO()) as complaint:
                self.assertEqual(main(["run", str(self.folder / "list.toml")]), 1)
            self.assertIn("list.toml", complaint.getvalue())
        (self.folder / "l.json").write_text(json.dumps({"defaults": {"repair": 0.5}, "shots": [{"name": "a", "shot": "a.wertis"}]}))
        self.assertEqual(load(self.folder / "l.json").shots[0].repair, 0.5)
        with redirect_stderr(io.StringIO()) as complaint:
            self.assertEqual(main(["run", str(self.folder / "l.json"), "--only", "z"]), 1)
        self.assertIn("no shot named z", complaint.getvalue())

    def test_what_went_in_is_told_by_its_fingerprint(self) -> None:
        write_plate(self.folder / "a", np.eye(3))
        self.write(self.shot("a"))
        task = load(self.folder / "list.toml").shots[0]
        before = fingerprint(task, self.folder)
        self.assertEqual(fingerprint(task, self.folder), before)
        self.assertNotEqual(fingerprint(task.model_copy(update={"repair": 0.2}), self.folder), before)
        (self.folder / "a" / "p.0003.png").write_bytes(b"other")
        self.assertNotEqual(fingerprint(task, self.folder), before)


class WorkersTest(unittest.TestCase):
    def test_as_many_as_there_are_cores_and_memory_reaches(self) -> None:
        hd, large = 1920 * 1080, 8192 * 4320
        self.assertEqual(usual_workers(hd, 64 << 30, 8), 8)
        self.assertEqual(usual_workers(hd, 1200 << 20, 8), 2)  # 220 MB and 150 bytes a pixel each: 517 MB
        self.assertEqual(usual_workers(large, 12 << 30, 8), 2)
        self.assertEqual(usual_workers(large, 1 << 20, 8), 1, "one is always begun")
        self.assertGreater(free_memory(), 100 << 20)
        self.assertLessEqual(usual_workers(hd), os.cpu_count() or 1)


class ReportTest(unittest.TestCase):
    def test_it_is_one_sound_page_with_nothing_from_outside(self) -> None:
        reports = [ShotReport(name="<b>&", state="done", drift={1: 0.1, 2: 1.4}, needs=["drift over 1 px"], pictures=[("x", "aGk=")]),
                   ShotReport(name="bad", state="failed", error="The plate <is> gone.")]
        page = as_html(reports, "Night")
        open_tags: list[str] = []

        class Checked(HTMLParser):
            def handle_starttag(self, tag: str, attrs: list) -> None:
                if tag not in ("meta", "img"):
                    open_tags.append(tag)

            def handle_startendtag(self, tag: str, attrs: list) -> None:
                pass

            def handle_endtag(self, tag: str) -> None:
                self.closed = open_tags.pop()
                assert self.closed == tag, (self.closed, tag)

        Checked().feed(page)
        self.assertEqual(open_tags, [])
        self.assertIn("&lt;b&gt;&amp;", page)
        self.assertEqual(re.findall(r'(?:src|href)="(?!data:)[^"]*"', page), [])
        self.assertIn("polyline", page)


if __name__ == "__main__":
    unittest.main()
