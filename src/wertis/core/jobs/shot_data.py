"""Everything of a shot as plain data for other readers."""

from pathlib import Path

import numpy as np

from wertis.core.errors import DeliverError
from wertis.core.exchange.layout import Layout
from wertis.core.exchange.shot_data import FrameData, GraphicData, MatteData, PlateData, ShapeData, ShotData, TrackData, write
from wertis.core.geometry.motion import between
from wertis.core.jobs.export import sampled_outlines
from wertis.core.shot.document import Placement, Shot, Track
from wertis.core.shot.edits import carry, placement_on, region_on
from wertis.core.shot.mattes import Matte, mattes_of
from wertis.core.shot.patches import Patch, true_proportions
from wertis.core.shot.placing import proportions_in
from wertis.core.shot.resolve import motion_of

_DIGITS = 5
_SAMPLES = 96  # points along an outline


def shot_data(shot: Shot, layout: Layout) -> ShotData:
    """A shot's plate, motion, graphics and mattes in a layout.

    Raises
    ------
    DeliverError
        When the shot has no plate.
    """
    ref = shot.plate
    if ref is None:
        raise DeliverError("A shot without a plate has nothing to hand on; open a plate first.")
    low, high = shot.range
    frames = range(low, high + 1)
    plate = PlateData(path=ref.path, first=ref.first, last=ref.last, size=ref.size, fps=ref.fps, pixel_aspect=ref.aspect)
    names = {t.id: t.name for t in shot.tracks}
    return ShotData(name=shot.name, layout=layout, convention=layout.words(), plate=plate, range=(layout.frame(low), layout.frame(high)),
                    tracks=[_track(t, layout, frames) for t in shot.tracks],
                    graphics=[_graphic(shot, x, names.get(x.on, ""), layout, frames) for x in shot.items if isinstance(x, Placement | Patch)],
                    mattes=[_matte(shot, m, names.get(m.on, ""), layout) for m in mattes_of(shot)])


def _pairs(points: np.ndarray, layout: Layout) -> list[tuple[float, float]]:
    return [(round(float(x), _DIGITS), round(float(y), _DIGITS)) for x, y in layout.points(points)]


def _track(track: Track, layout: Layout, frames: range) -> TrackData:
    motion, solution = motion_of(track), track.solution
    found: dict[int, FrameData] = {}
    home = track.region.frame
    errors = dict(zip(solution.tried.tolist(), solution.frame_errors.tolist(), strict=True)) if solution is not None else {}
    shares = dict(zip(solution.tried.tolist(), solution.shares.tolist(), strict=True)) if solution is not None else {}
    for frame in frames:
        outline = region_on(track, frame)
        if outline is None:
            continue
        warp = between(motion, home, frame) if motion is not None and frame != home else None
        matrix = np.eye(3) if frame == home else warp.matrix if warp is not None else None
        rows = None
        if matrix is not None:
            m = layout.homography(matrix)
            rows = tuple(tuple(float(v) for v in row) for row in m)
        error = errors.get(frame)
        found[layout.frame(frame)] = FrameData(matrix=rows, outline=_pairs(outline, layout),  # type: ignore[arg-type]
                                               error=None if error is None or not np.isfinite(error) else round(float(error), _DIGITS),
                                               seen=None if shares.get(frame) is None else round(float(shares[frame]), 4))
    lost = {layout.frame(int(f)): str(why) for f, why in getattr(solution, "reasons", {}).items()}
    return TrackData(name=track.name, kind=track.settings.kind, reference=layout.frame(home), visible=track.visible, frames=found, lost=lost)


def _graphic(shot: Shot, item: Placement | Patch, track: str, layout: Layout, frames: range) -> GraphicData:
    corners = {}
    for frame in frames:
        on = placement_on(shot, item, frame) if isinstance(item, Placement) else carry(shot.track(item.on), item.array, item.frame, frame)
        if on is not None and np.isfinite(on).all():
            corners[layout.frame(frame)] = tuple(_pairs(on, layout))
    graphic = isinstance(item, Placement)
    return GraphicData(name=item.name, kind="graphic" if graphic else "patch", track=track, frame=layout.frame(item.frame),
                       artwork=(item.artwork.path or item.artwork.kind) if isinstance(item, Placement) else "",
                       proportions=proportions_in(shot, item) if isinstance(item, Placement) else true_proportions(shot, item),
                       corners=corners)  # type: ignore[arg-type]


def _matte(shot: Shot, matte: Matte, track: str, layout: Layout) -> MatteData:
    shapes = [ShapeData(name=s.name, combine=s.combine, closed=s.closed, outlines={layout.frame(f): _pairs(p, layout) for f, p in s.points.items()})
              for s in sampled_outlines(shot, matte, _SAMPLES)]
    return MatteData(name=matte.name, track=track, shapes=shapes)


def export_shot_data(shot: Shot, path: Path, layout: Layout) -> int:
    """Write everything of a shot; how many tracks, graphics and mattes there are.

    Raises
    ------
    DeliverError
        When it cannot be written, or the file's name ends in something else than .json.
    """
    if path.suffix.lower() != ".json":
        raise DeliverError(f"Everything of a shot goes out as JSON; {path.name} needs .json at its end.")
    data = shot_data(shot, layout)
    write(path, data)
    return len(data.tracks) + len(data.graphics) + len(data.mattes)
