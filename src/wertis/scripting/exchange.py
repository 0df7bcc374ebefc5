"""Motion in and out of scripts: layouts, files of motion, proof that they arrive."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from wertis import libraries  # noqa: F401  first, so that importing changes no environment
from wertis.core.errors import DeliverError
from wertis.core.exchange.layout import Layout
from wertis.core.jobs.events import finished, told
from wertis.core.jobs.motion_export import KINDS, MAPS, export_motion, layout_of, write_maps
from wertis.core.jobs.prove import Proof, prove, prove_mesh
from wertis.core.shot.document import Placement
from wertis.core.shot.document import Shot as Document
from wertis.scripting.common import Progress, checked_fields

if TYPE_CHECKING:
    from wertis.scripting.cluster import Cluster
    from wertis.scripting.surface import Surface


def layout(surface: Surface, options: dict[str, Any]) -> Layout:
    """The layout with options that were given by name."""
    with checked_fields():
        return layout_of(surface.shot.document, **options)


def export(surface: Surface, path: str | Path, kind: str, placement: Placement | None, reference: int | None, repaired: bool, options: dict[str, Any],
           progress: Progress | None = None, stop: threading.Event | None = None, cluster: Cluster | None = None, relative: bool = False) -> int:
    """Write a surface's motion; how many frames."""
    where = layout(surface, options)
    if kind in MAPS:
        written = 0
        if cluster is not None:
            from wertis.scripting.parts import maps_on_cluster

            events = maps_on_cluster(cluster, surface.shot.document, surface.record, kind, str(path), where, reference)
        else:
            events = write_maps(surface.shot.document, surface.record, kind, str(path), where, reference, stop)
        for event in told(events, progress):
            written += not event.note
        return written
    if kind not in KINDS:
        raise DeliverError(f"'{kind}' is nothing that goes out; choose of {', '.join((*KINDS, *MAPS))}.")
    return export_motion(surface.shot.document, surface.record, kind, Path(path), where, placement, reference=reference, repaired=repaired,
                         relative=relative)


def mesh_proved(surface: Surface, placement: Placement, suffix: str, frames: Sequence[int] | None, options: dict[str, Any],
                progress: Progress | None = None) -> Proof:
    """Export a mesh and let the receiver rebuild frames."""
    shot = surface.shot
    proof: Proof = finished(prove_mesh(shot.document, surface.record, placement, suffix, shot.plate, frames or shown_frames(shot.document),
                                       layout(surface, options)), progress)
    return proof


def shown_frames(document: Document) -> list[int]:
    """The first frame, one in the middle, and the last."""
    low, high = document.range
    return sorted({low, (low + high) // 2, high})


def proved(surface: Surface, placement: Placement, kind: str, suffix: str, frames: Sequence[int] | None, believed: dict[str, Any] | None,
           options: dict[str, Any], progress: Progress | None = None) -> Proof:
    """Export and let the receiver rebuild frames."""
    shot = surface.shot
    wanted = list(frames) if frames is not None else shown_frames(shot.document)
    thought = layout(surface, {**options, **believed}) if believed is not None else None
    proof: Proof = finished(prove(shot.document, surface.record, placement, kind, suffix, layout(surface, options), shot.plate, wanted, thought),  # type: ignore[arg-type]
                            progress)
    return proof
