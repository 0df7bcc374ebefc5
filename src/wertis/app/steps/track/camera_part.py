"""The camera in the step Track: solving it, dropping its points, and its points on the picture."""

from collections.abc import Callable, Iterator

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from wertis.app import theme
from wertis.app.picture_view import PictureView
from wertis.app.session import Session
from wertis.app.steps.track.camera_fields import CameraFields
from wertis.app.workbench import Workbench
from wertis.core.blas import single_threaded
from wertis.core.check.summary import GOOD, USABLE
from wertis.core.jobs.camera import camera_tracks, pick_planes, solve_again, solve_shot
from wertis.core.jobs.events import Event, Stop, stopped
from wertis.core.jobs.job import Job
from wertis.core.shot.camera_world import set_distance, set_ground
from wertis.core.shot.cameras import CameraSettings, SolvedCameraRecord
from wertis.core.shot.document import Shot
from wertis.core.shot.hold_outs import whole_masks


class CameraPart:
    """Solves and tracks by the camera."""

    def __init__(self, bench: Workbench, fields: CameraFields) -> None:
        self.bench, self.session, self.fields = bench, bench.session, fields
        self._result: Shot | None = None
        fields.wanted.connect(self.wanted)

    def wanted(self, what: str) -> None:
        """Something that the page asks for."""
        camera = self.session.shot.camera
        if what == "solve":
            self.track(anew=True)
        elif what in ("ground", "distance"):
            self._set_world(what)
        elif isinstance(camera, SolvedCameraRecord):
            chosen = self.fields.chosen if what == "drop" else set(np.flatnonzero(camera.off > self.fields.error.value()).tolist())
            if not chosen:
                self.bench.say("Choose points first: click one, or Shift-drag a box round several." if what == "drop"
                               else f"No point is off by more than {self.fields.error.value():.2f} px.")
                return
            self._run("Solving again without some points", 2, lambda shot, stop: self._without(shot, chosen, stop),
                      f"Solved again without {len(chosen)} of the points")
            self.fields.chosen = set()

    def _set_world(self, what: str) -> None:
        """Set the ground or the scale of the camera's world from the chosen points."""
        s, chosen = self.session, sorted(self.fields.chosen)
        if what == "ground":
            done = self.bench.edit("Set the ground", lambda: set_ground(s.shot, chosen, s.frame))
            words = f"The world stands on the plane through {len(chosen)} points; exported cameras and planes do too."
        else:
            far = self.fields.distance.value()
            done = self.bench.edit("Set the scale", lambda: set_distance(s.shot, chosen, far))
            words = f"The two points are {far:g} apart in the world, and everything else with them."
        if done:
            self.bench.say(words)

    def track(self, anew: bool = False) -> None:
        """Find the plane that the selected track's region shows; solve the camera first where that was not done, or anew."""
        s, ident = self.session, self.session.track_id
        solve = anew or not isinstance(s.shot.camera, SolvedCameraRecord)
        low, high = s.shot.range
        others = [t for t in camera_tracks(s.shot) if t != ident] if solve else []
        self._run("Solving the camera" if solve else "Finding the plane", (high - low + 2 if solve else 0) + len(others) + 2,
                  lambda shot, stop: self._tracked(shot, [*others, ident], solve, stop), "The track moves with its plane of the scene")

    def _tracked(self, shot: Shot, idents: list[str], solve: bool, stop: Stop) -> Iterator[Event]:
        s = self.session
        assert s.plate is not None and s.cache is not None
        if solve:
            held = whole_masks(shot, shot.track(s.track_id), s.plate.size)
            known, lens, zooms = self.fields.wishes
            for event in solve_shot(shot, s.plate, known, lens, held, s.cache.get, stop, zooms):
                shot = event.item if isinstance(event.item, Shot) else shot
                yield event
        if not stopped(stop):
            yield from pick_planes(shot, s.plate, idents, s.cache.get, stop)

    def _without(self, shot: Shot, chosen: set[int], stop: Stop) -> Iterator[Event]:
        s = self.session
        assert s.plate is not None and s.cache is not None
        yield Event(None, 0, 2, None, "solving again")
        again = solve_again(shot, chosen)
        if not stopped(stop):
            yield from pick_planes(again, s.plate, camera_tracks(again), s.cache.get, stop)

    def _run(self, label: str, total: int, work: Callable[[Shot, Stop], Iterator[Event]], done: str) -> None:
        s, shot = self.session, self.session.shot
        if s.plate is None or s.cache is None or self.bench.work.busy():
            return
        self.bench.playback.pause()
        self._result = None

        def guarded(stop: Stop) -> Iterator[Event]:
            with single_threaded():
                yield from work(shot, stop)

        def step(event: Event) -> None:
            if isinstance(event.item, Shot):
                self._result = event.item
            if event.note:
                self.bench.say(f"{label}: {event.note}.")

        def over(job: Job) -> None:
            if job.error:
                self.bench.say(job.error, True)
            elif self._result is None or job.stopped:
                self.bench.say("Stopped; nothing was changed.")
            else:
                s.history.do(label, self._result)
                camera = self._result.camera
                error = f"; the camera's error is {camera.solved.error:.2f} px" if isinstance(camera, SolvedCameraRecord) else ""
                self.bench.say(f"{done}{error}. Next: place a graphic on it (P).")
            self._result = None

        self.bench.work.begin(Job(label, total, guarded), event=step, ended=over)


def camera_points_on(session: Session) -> tuple[SolvedCameraRecord, np.ndarray, np.ndarray] | None:
    """The camera, numbers (n,) of its points that are seen on the frame in view, and where they are as it has them (n, 2)."""
    track, camera = session.track, session.shot.camera
    if track is None or not isinstance(track.settings, CameraSettings) or not isinstance(camera, SolvedCameraRecord):
        return None
    if session.frame not in camera.solved.poses:
        return None
    numbers, _ = camera.seen_on(session.frame)
    return camera, numbers, camera.solved.project(camera.points[numbers], session.frame)


def paint_camera_points(painter: QPainter, view: PictureView, chosen: set[int]) -> None:
    """The camera's points on the frame: a dot where one is good, a square where it is usable, a cross where it is worse."""
    there = camera_points_on(view.session)
    if there is None:
        return
    camera, numbers, places = there
    off = camera.off[numbers]
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    if view.through is not None:
        painter.setClipRect(view.picture_area())
    for number, (x, y), error in zip(numbers.tolist(), view.to_screen(places), off, strict=True):
        if not np.isfinite([x, y]).all():
            continue
        colour = theme.AMBER if number in chosen else theme.ACCENT if error <= USABLE else theme.PAPER
        r = 4.5 if number in chosen else 2.2
        for width, shade in ((2.6, theme.HALO), (1.2, colour)):
            painter.setPen(QPen(shade, width))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            if error <= GOOD:
                painter.drawEllipse(QPointF(x, y), r, r)
            elif error <= USABLE:
                painter.drawRect(QRectF(x - r, y - r, 2 * r, 2 * r))
            else:
                painter.drawLines([QLineF(x - r, y - r, x + r, y + r), QLineF(x - r, y + r, x + r, y - r)])
    painter.restore()
