"""A mesh in the window: laid, tracked, pegged in the steady view, tracked again, used, rendered, saved, opened again, undone all the way."""

import numpy as np

from tests.test_window import WindowCase
from wertis.app.steps.repair.mesh_tool import MeshTool
from wertis.app.steps.repair.step import RepairStep
from wertis.core.shot import edits
from wertis.core.shot.meshes import MeshSettings, MeshSolution, PegLayer, mesh_of, vertices_on


class MeshWindowTest(WindowCase):
    def test_a_mesh_from_laying_to_undoing(self) -> None:
        w, s = self.window, self.window.session
        w.open_path(self.plate)
        self.until(lambda: w.viewer.picture is not None)
        start = s.shot
        shot, track = edits.add_track(s.shot, np.array(self.made.region), s.frame, "Sail")
        s.history.do("Draw", shot)
        s.select(track.id)
        s.go_step("Track")
        page = w.steps["Track"].page
        page.kind.setCurrentIndex(page.kind.findData("mesh"))
        page.kind.activated.emit(page.kind.currentIndex())
        self.assertIsInstance(s.track.settings, MeshSettings)
        self.assertTrue(page.mesh.isVisibleTo(page))
        page.mesh.spacing.setValue(40)
        self.assertEqual(s.track.settings.spacing, 40)
        self.assertIn(f"{len(mesh_of(s.track, s.plate.size).vertices)} vertices", page.mesh.facts.text())
        page.mesh.textured.click()  # what is drawn is what will be tracked
        self.until(lambda: s.mesh() is not None)
        drawn = s.mesh().vertices
        w.run_command("track.both")
        self.until(lambda: w.job is None and s.track.solution is not None, 60)
        solution = s.track.solution
        self.assertIsInstance(solution, MeshSolution)
        self.assertEqual(int(solution.good.sum()), 8)
        np.testing.assert_array_equal(solution.vertices, drawn)

        frame = solution.reference + 4
        s.go(frame)
        s.go_step("Repair")
        step = w.steps["Repair"]
        assert isinstance(step, RepairStep)
        self.assertEqual(step.part, "mesh")  # what a mesh is repaired by comes first
        self.until(lambda: w.steady.picture is not None and w.steady.through is not None)
        self.assertIsInstance(w.viewer.tool, MeshTool)
        before = step._mesh_points()
        k = int(np.argmin(np.linalg.norm(before - before.mean(0), axis=1)))
        self.drag_in(w.steady, before[k], before[k] + [5, -4])
        pegs = s.track.layer(PegLayer).pegs
        self.assertEqual((list(pegs), list(pegs[frame])), ([frame], [k]))
        np.testing.assert_allclose(step._mesh_points()[k], before[k] + [5, -4], atol=1.5)
        self.assertTrue(s.out_of_date())
        self.assertIn("peg", step.page.mesh.facts.text())
        w.run_command("repair.again")
        self.until(lambda: w.job is None, 60)
        self.assertFalse(s.out_of_date())
        np.testing.assert_allclose(step._mesh_points()[k], pegs[frame][k], atol=1e-3)

        s.go_step("Track")  # ... and this frame, on which it was put right, stands in for the reference frame as well
        page.mesh.here.click()
        self.assertEqual(s.track.settings.further, (frame,))
        self.assertIn(f"{solution.reference}, {frame}", page.mesh.facts.text())
        s.go(frame - 1)
        self.assertFalse(page.mesh.here.isChecked())
        page.mesh.renewed.click()
        self.assertFalse(s.track.settings.renewed)
        w.run_command("track.both")
        self.until(lambda: w.job is None and s.track.solution is not solution, 60)
        s.go(frame)

        s.go_step("Use")
        placed = w.steps["Use"].place
        placed()
        self.until(lambda: s.placement is not None)
        self.until(lambda: w.viewer.picture is not None)
        out = self.folder / "out" / "comp.####.png"
        w.steps["Deliver"].render("comp", str(out))
        self.until(lambda: w.job is None, 60)
        self.assertEqual(len(list(out.parent.glob("*.png"))), 8)
        w.steps["Deliver"].export_mesh(str(self.folder / "sail.usd"))
        self.assertTrue((self.folder / "sail.usd").exists())
        w.session.opened.save(self.folder / "sail.wertis")
        kept = s.shot
        while s.history.undo_label:
            w.undo()
        self.assertEqual(s.shot, start)
        w.open_path(self.folder / "sail.wertis")
        self.until(lambda: s.shot.tracks and w.viewer.picture is not None)
        self.assertEqual(s.shot.tracks, kept.tracks)

    def test_a_mesh_that_drifts_is_pegged_by_itself(self) -> None:
        w, s = self.window, self.window.session
        w.open_path(self.plate)
        self.until(lambda: w.viewer.picture is not None)
        shot, track = edits.add_track(s.shot, np.array(self.made.region), s.frame, "Sail")
        s.history.do("Draw", edits.set_settings(shot, track.id, MeshSettings(spacing=30)))
        s.select(track.id)
        s.go_step("Track")
        w.run_command("track.both")
        self.until(lambda: w.job is None and s.track.solution is not None, 60)
        solution = s.track.solution
        places, vertices = solution.places.copy(), solution.vertices
        frame = solution.reference + 4
        away = 5 * np.exp(-((vertices - vertices.mean(0)) ** 2).sum(1) / (2 * 60.0 ** 2))[:, None]
        places[solution.index(frame)] += away
        s.history.do("Spoil", s.shot.with_track(s.track.but(solution=solution.but(places=places))))
        before = vertices_on(s.track, frame)
        s.go_step("Repair")
        w.run_command("repair.itself")
        self.until(lambda: w.job is None, 100)
        self.assertIn(frame, s.track.layer(PegLayer).frames)
        left = vertices_on(s.track, frame) - (before - away)
        self.assertLess(np.quantile(np.linalg.norm(left, axis=1), 0.9), 0.7)
        self.assertIn("pegs on", w.steps["Repair"].page.mesh.facts.text())


del WindowCase
