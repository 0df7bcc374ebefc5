"""Meshes, shapes and cameras in a receiver's coordinates and frame numbers, and back in the plate's."""

from collections.abc import Iterable, Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from wertis.core.errors import DeliverError
from wertis.core.exchange.animated_mesh import AnimatedMesh
from wertis.core.exchange.layout import Layout
from wertis.core.exchange.outlines import Outlines
from wertis.core.geometry.camera import SolvedCamera

_SAME_PROPORTIONS = 1e-3  # by which a camera's picture may be stretched: its lens has one focal length for both directions


def mesh_in(mesh: AnimatedMesh, layout: Layout) -> AnimatedMesh:
    """A mesh of the plate as it is written; its expected errors stay in the plate's pixels."""
    if layout.plain:
        return mesh
    return replace(mesh, size=layout.picture, reference=layout.frame(mesh.reference), vertices=layout.points(mesh.vertices), layout=layout,
                   places=layout.frames({f: layout.points(p) for f, p in mesh.places.items()}), errors=layout.frames(mesh.errors),
                   seen=layout.frames(mesh.seen))


def mesh_back(mesh: AnimatedMesh) -> AnimatedMesh:
    """A mesh that was read, in the coordinates of the plate that it was made on."""
    layout = mesh.layout
    if layout is None:
        return mesh
    return replace(mesh, size=layout.size, reference=layout.frame_back(mesh.reference), vertices=layout.back(mesh.vertices), layout=None,
                   places=layout.frames_back({f: layout.back(p) for f, p in mesh.places.items()}), errors=layout.frames_back(mesh.errors),
                   seen=layout.frames_back(mesh.seen))


def outlines_in(shape: Outlines, layout: Layout) -> Outlines:
    """A shape of the plate as it is written, soft edges and widths too."""
    return replace(shape, points=layout.frames({f: layout.points(p) for f, p in shape.points.items()}), size=layout.picture,
                   handles=layout.frames({f: layout.points(p) for f, p in shape.handles.items()}), inner=layout.lengths(shape.inner),
                   outer=layout.lengths(shape.outer), widths=layout.lengths(shape.widths))


def outlines_back(shape: Outlines, layout: Layout) -> Outlines:
    """A shape that was read, in the coordinates of the plate that it was made on."""
    return replace(shape, points=layout.frames_back({f: layout.back(p) for f, p in shape.points.items()}), size=layout.size,
                   handles=layout.frames_back({f: layout.back(p) for f, p in shape.handles.items()}), inner=layout.lengths_back(shape.inner),
                   outer=layout.lengths_back(shape.outer), widths=layout.lengths_back(shape.widths))


def outlines_scaled(shape: Outlines, by: np.ndarray) -> Outlines:
    """A shape of a picture that is `by` (2,) times as small as the plate, on the plate."""
    mean = float(np.sqrt(by.prod()))
    return replace(shape, points={f: p * by for f, p in shape.points.items()}, handles={f: p * by for f, p in shape.handles.items()},
                   inner=shape.inner * mean, outer=shape.outer * mean, widths=shape.widths * mean)


def camera_in(camera: SolvedCamera, layout: Layout) -> SolvedCamera:
    """A camera whose picture and frame numbers are the receiver's.

    Raises
    ------
    DeliverError
        When the receiver's picture has other proportions.
    """
    scaled = camera_scaled(camera, layout.picture)
    return replace(scaled, poses=layout.frames(scaled.poses), errors=layout.frames(camera.errors), zoom=layout.frames(scaled.zoom))


def focal_and_zoom(given: Any, frames: Iterable[int]) -> tuple[float, dict[int, float]]:
    """The focal length, the mean where it changes, and by frame where it does, of a file's number or frame to number.

    Raises
    ------
    ValueError
        When a frame has none, or one that is not above 0.
    """
    if not isinstance(given, Mapping):
        return float(given), {}
    zoom = {int(f): float(v) for f, v in given.items()}
    if set(zoom) != set(frames) or not all(0 < v < np.inf for v in zoom.values()):
        raise ValueError("the focal length is not known on each frame")
    return float(np.mean(list(zoom.values()))), zoom


def camera_back(camera: SolvedCamera, said: Any) -> SolvedCamera:
    """A camera that was read on the plate's own frames, by the layout that its file says (JSON, as text or not; None where it says none); its picture's
    size stays that of the file.

    Raises
    ------
    ValueError
        When that is no layout.
    """
    if not said:
        return camera
    layout = Layout.model_validate_json(said) if isinstance(said, str) else Layout.model_validate(said)
    return replace(camera, poses=layout.frames_back(camera.poses), errors=layout.frames_back(camera.errors), zoom=layout.frames_back(camera.zoom))


def camera_scaled(camera: SolvedCamera, size: tuple[int, int]) -> SolvedCamera:
    """A camera whose picture has another size, width and height.

    Raises
    ------
    DeliverError
        When that has other proportions.
    """
    across, along = size[0] / camera.size[0], size[1] / camera.size[1]
    if abs(across / along - 1) > _SAME_PROPORTIONS:
        raise DeliverError(f"A camera of a picture of {camera.size[0]} x {camera.size[1]} cannot be one of {size[0]} x {size[1]}, whose proportions are "
                           "others: a lens has one focal length. Choose a size of the same proportions.")
    return replace(camera, size=size, focal=camera.focal * across, principal=camera.principal * [across, along],
                   errors={f: e * across for f, e in camera.errors.items()}, zoom={f: v * across for f, v in camera.zoom.items()})
