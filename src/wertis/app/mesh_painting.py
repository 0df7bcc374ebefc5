"""A mesh painted over the picture: its triangles, and its vertices told apart by their shapes."""

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from wertis.app import theme
from wertis.app.picture_view import PictureView
from wertis.core.geometry.mesh import Mesh
from wertis.core.shot.document import Track
from wertis.core.shot.meshes import MeshSettings, MeshSolution, PegLayer
from wertis.core.shot.resolve import motion_of

LINE = QColor(255, 255, 255, 70)
MANY = 150  # vertices on the screen from which they are drawn small


def shown_mesh(view: PictureView, track: Track) -> tuple[Mesh, np.ndarray, np.ndarray] | None:
    """A mesh track's mesh, its vertices (V, 2) on the frame in view, and (V,) which are measured there; None where there is nothing to show."""
    s = view.session
    if not isinstance(track.settings, MeshSettings) or s.plate is None:
        return None
    mesh = s.mesh()
    if mesh is None:
        return None
    live = s.live.on(track.id, s.frame)
    if live is not None:
        warp = live.warp
        if warp is None:
            return None
        return mesh, warp.forward(mesh.vertices), getattr(live, "measured", np.ones(len(mesh.vertices), bool))
    if s.frame == track.region.frame:
        return mesh, mesh.vertices, np.ones(len(mesh.vertices), bool)
    motion = motion_of(track)
    warp = motion.at(s.frame) if motion is not None else None
    if warp is None:
        return None
    measured = np.ones(len(mesh.vertices), bool)
    solution = track.solution
    if isinstance(solution, MeshSolution) and len(solution.vertices) == len(mesh.vertices):
        k = solution.index(s.frame)
        if k is not None:
            measured = solution.measured[k]
    return mesh, warp.forward(mesh.vertices), measured


def paint_mesh(painter: QPainter, view: PictureView, handles: bool = False) -> None:
    """The selected track's mesh: lines, and on each vertex a dot where it is measured, a ring where it is hidden, a diamond where it is pegged, a square
    where it is locked, a cross where it follows, a dotted ring where it has no data; amber where it is out of date."""
    s = view.session
    track = s.track
    if track is None or not track.visible:
        return
    there = shown_mesh(view, track)
    if there is None:
        return
    mesh, places, measured = there
    at = view.to_screen(places)
    fine = np.isfinite(at).all(1)
    edges = np.unique(np.sort(np.concatenate([mesh.triangles[:, [0, 1]], mesh.triangles[:, [1, 2]], mesh.triangles[:, [2, 0]]]), axis=1), axis=0)
    edges = edges[fine[edges].all(1)]
    lines = [QLineF(*at[a], *at[b]) for a, b in edges]
    painter.save()
    if view.through is not None:  # the steady view shows a part of the picture, and nothing beyond it
        painter.setClipRect(view.picture_area())
    painter.setPen(QPen(QColor(0, 0, 0, 60), 2))
    painter.drawLines(lines)
    painter.setPen(QPen(LINE, 1))
    painter.drawLines(lines)
    layer = track.layer(PegLayer)
    pegs = layer.pegs.get(s.frame, {})
    stale = s.stale_vertices() if handles else None
    bare = _without_data(track, s.frame)
    small = 1.6 if fine.sum() > MANY and not handles else 2.6
    for k in np.flatnonzero(fine):
        mark(painter, QPointF(*at[k]), small, bool(measured[k]), k in pegs, k in layer.locked, k in layer.followers,
             _holds(bare, int(k)), _holds(stale, int(k)))
    painter.restore()


def _holds(flags: np.ndarray | None, k: int) -> bool:
    return flags is not None and k < len(flags) and bool(flags[k])


def _without_data(track: Track, frame: int) -> np.ndarray | None:
    """(V,) which vertices have no data of their own on a frame; None where that is not known."""
    solution = track.solution
    k = solution.index(frame) if isinstance(solution, MeshSolution) else None
    if not isinstance(solution, MeshSolution) or k is None or frame == solution.reference:
        return None
    return np.asarray(~np.isfinite(solution.places[k]).all(1) | (~np.isfinite(solution.errors[k]) & ~solution.measured[k]))


def mark(painter: QPainter, at: QPointF, size: float, measured: bool, pegged: bool, locked: bool, follows: bool, bare: bool = False,
         stale: bool = False) -> None:
    """One vertex; `bare` has no data of its own, `stale` is out of date."""
    painter.setPen(QPen(theme.HALO, 1))
    if pegged:
        r = size + 3
        painter.setBrush(theme.AMBER)
        painter.drawPolygon(QPolygonF([at + QPointF(0, -r), at + QPointF(r, 0), at + QPointF(0, r), at + QPointF(-r, 0)]))
    elif locked:
        painter.setBrush(theme.PAPER)
        painter.drawRect(QRectF(at.x() - size, at.y() - size, 2 * size, 2 * size))
    elif follows:
        painter.setPen(QPen(theme.PAPER, 1.2))
        painter.drawLine(QLineF(at.x() - size - 1, at.y() - size - 1, at.x() + size + 1, at.y() + size + 1))
        painter.drawLine(QLineF(at.x() - size - 1, at.y() + size + 1, at.x() + size + 1, at.y() - size - 1))
    elif measured:
        painter.setBrush(theme.AMBER if stale else theme.ACCENT)
        painter.drawEllipse(at, size, size)
    else:
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(theme.HALO, 3))
        painter.drawEllipse(at, size + 1, size + 1)
        painter.setPen(QPen(theme.AMBER if stale else theme.PAPER, 1.2, Qt.PenStyle.DotLine if bare else Qt.PenStyle.SolidLine))
        painter.drawEllipse(at, size + 1, size + 1)
