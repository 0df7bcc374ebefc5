"""What a report says of a shot: its drift, its worst frames as pictures with the slip drawn, its graphics held still, and what a person must look at."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import cv2
import numpy as np

from wertis.core.errors import PlateError
from wertis.core.jobs.check import drift_places
from wertis.core.jobs.strip import StripFrame, frames_of, strip
from wertis.core.plate import colour
from wertis.core.shot.edits import carry, region_on
from wertis.core.work.report import ShotReport, picture, write_reports

if TYPE_CHECKING:
    from wertis.core.check.slip import Slip
    from wertis.scripting.shot import Shot
    from wertis.scripting.surface import Drift, Surface

_WORST = 3  # frames of a surface that are shown
_APART = 5  # frames between two of them
_SIDE = 360  # pixels of a picture's longer side
_LARGER = 10.0  # times that a slip is drawn larger: a pixel is not seen
_OUTLINE, _SLIP = (255, 230, 120), (255, 96, 64)


def note_drift(report: ShotReport, shot: Shot, surface: Surface, found: Drift) -> None:
    """Put what was measured of a surface into a report, with its worst frames as pictures."""
    worst = {f: float(s.worst) for f, s in found.by_frame.items() if np.isfinite(s.worst)}
    for frame, amount in worst.items():
        report.drift[frame] = max(amount, report.drift.get(frame, 0.0))
    unmeasured = sorted(set(found.by_frame) - set(worst) - set(surface.lost))
    if unmeasured:
        report.notes.append(f"drift of {surface.name} could not be measured on {len(unmeasured)} frames ({', '.join(map(str, unmeasured[:6]))})")
    for frame in _apart(worst):
        made = _slip_picture(shot, surface, frame, found.by_frame[frame])
        if made is not None:
            report.pictures.append(picture(f"{surface.name}, frame {frame}: {worst[frame]:.2f} px, drawn {_LARGER:g} times as long", made))


def _apart(worst: dict[int, float]) -> list[int]:
    """The worst frames, none beside another, so that several places are shown and not one thrice."""
    chosen: list[int] = []
    for frame in sorted(worst, key=lambda f: -worst[f]):
        if len(chosen) < _WORST and all(abs(frame - other) >= _APART for other in chosen):
            chosen.append(frame)
    return chosen


def judge(shot: Shot, surfaces: Sequence[Surface], report: ShotReport) -> None:
    """What a person has to look at, and the graphics held still."""
    over = sorted((f for f, d in report.drift.items() if d > report.level), key=lambda f: -report.drift[f])
    if over:
        report.needs.append(f"drift over {report.level:g} px on {len(over)} frames, worst {report.drift[over[0]]:.2f} px on {over[0]}")
    if report.lost:
        report.needs.append(f"the surface is lost on {len(report.lost)} frames")
    for surface in surfaces:
        if not surface.placements:
            continue
        rows = [e.item for e in strip(shot.document, surface.placements[0].id, shot.plate, frames_of(shot.document, 8), 110)
                if isinstance(e.item, StripFrame)]
        both = {r.frame: np.vstack([r.comp, r.plate]) for r in rows if r.comp is not None and r.plate is not None}
        if both:
            report.pictures.append(picture(f"{surface.name} held still, on frames {', '.join(map(str, both))}", np.hstack(list(both.values()))))


def report_check(shot: Shot, surface: Surface, found: Drift, level: float, folder: Path) -> Path:
    """Write the report of one shot's check into a folder; where its page is.

    Raises
    ------
    DeliverError
        When it cannot be written.
    """
    report = ShotReport(name=shot.document.name, state="done", level=level, lost=dict(surface.lost))
    note_drift(report, shot, surface, found)
    judge(shot, [surface], report)
    folder.mkdir(parents=True, exist_ok=True)
    return write_reports(folder, [report], f"{shot.document.name}: {surface.name}")[0]


def _slip_picture(shot: Shot, surface: Surface, frame: int, slip: Slip) -> np.ndarray | None:
    """The surface on a frame, its outline as the track has it, and from each place an arrow along its slip, enlarged."""
    outline = region_on(surface.record, frame)
    if outline is None:
        return None
    try:
        seen = np.ascontiguousarray(colour.shown(shot.plate.read(frame)))
    except PlateError:
        return None
    low = np.maximum(outline.min(0) - 30, 0).astype(int)
    high = np.minimum(outline.max(0) + 30, seen.shape[1::-1]).astype(int)
    part = seen[low[1]:high[1], low[0]:high[0]]
    if not part.size:
        return None
    shrink = min(1.0, _SIDE / max(part.shape[:2]))
    drawn = np.ascontiguousarray(cv2.resize(part, None, fx=shrink, fy=shrink, interpolation=cv2.INTER_AREA) if shrink < 1 else part)

    def pixels(points: np.ndarray) -> np.ndarray:
        return np.round((points - low) * shrink).astype(np.int32)

    cv2.polylines(drawn, [pixels(outline)], True, _OUTLINE, 1, cv2.LINE_AA)
    places = drift_places(shot.document, surface.record)
    there = carry(surface.record, places.points, places.frame, frame)
    if there is not None:
        for place, by in zip(there, slip.slip, strict=True):
            if np.isfinite(by).all() and np.isfinite(place).all():
                start, end = pixels(np.stack([place, place + by * _LARGER]))
                cv2.arrowedLine(drawn, start.tolist(), end.tolist(), _SLIP, 2, cv2.LINE_AA, tipLength=0.25)
    return drawn
