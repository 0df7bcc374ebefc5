"""Doing a list of work: each shot by itself, what is done left alone, what fails told, and a report at the end."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor, as_completed
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from pydantic import ValidationError

import wertis
from wertis import libraries  # noqa: F401  first, so that importing changes no environment
from wertis.core.errors import WertisError
from wertis.core.files import write_text
from wertis.core.geometry import homography
from wertis.core.shot.document import Placement, RepairLayer
from wertis.core.shot.edits import as_points
from wertis.core.work.carry_over import find_surface
from wertis.core.work.report import ShotReport, write_reports
from wertis.core.work.task_list import ExportTask, Task, fingerprint, load
from wertis.core.work.workers import usual_workers
from wertis.scripting.reporting import judge, note_drift
from wertis.scripting.shot import Shot
from wertis.scripting.surface import Surface

if TYPE_CHECKING:
    from wertis.scripting.cluster import Cluster

_RETRIES = 1  # times that a shot is begun again after its process ended by itself

Say = Callable[[str], object]


def run_list(path: Path, workers: int | None = None, again: bool = False, say: Say = print, cluster: Cluster | None = None,
             memory: int | None = None) -> list[ShotReport]:
    """Do a list of work and write its report; each shot in a process of its own.

    Parameters
    ----------
    workers : how many at a time; as many as help and fit into memory when None.
    memory : bytes that they may take together; three quarters of what is free when None.
    cluster : whose processes do the shots, in place of workers here.
    again : shots that failed before are tried again even if nothing has changed.

    Raises
    ------
    WertisError
        When the list cannot be read.
    """
    tasks, folder = load(path), path.resolve().parent
    out = folder / tasks.out
    out.mkdir(parents=True, exist_ok=True)
    reports: dict[str, ShotReport] = {}
    wanted: list[Task] = []
    for task in tasks.shots:
        before = _kept(out, task, folder)
        if before is not None and (before.state == "done" or (before.state == "failed" and not again)):
            reports[task.name] = before
            say(f"{task.name}: {'done already' if before.state == 'done' else 'failed before; --again tries it again'}")
        else:
            wanted.append(task)
    if cluster is not None:
        coming = _on_cluster(cluster, path, out, wanted, folder)
    else:
        if workers is None:
            workers = min(usual_workers(_most_pixels(wanted, folder), memory), max(len(wanted), 1))
        coming = _here(path, out, wanted, folder, workers)
    for report in coming:
        reports[report.name] = report
        say(f"{report.name}: {report.error if report.state == 'failed' else '; '.join(report.needs) or 'done'}")
        write_reports(out, [reports[t.name] for t in tasks.shots if t.name in reports], path.stem)
    write_reports(out, [reports[t.name] for t in tasks.shots], path.stem)
    return [reports[t.name] for t in tasks.shots]


def _most_pixels(tasks: list[Task], folder: Path) -> int:
    """Pixels of the largest plate's picture; of an HD one where none can be opened."""
    found = []
    for task in tasks:
        try:
            w, h = wertis.open(folder / (task.plate or task.shot)).plate.size
            found.append(w * h)
        except Exception:  # it is told when the shot is done
            continue
    return max(found, default=1920 * 1080)


def _here(path: Path, out: Path, tasks: list[Task], folder: Path, workers: int) -> Iterator[ShotReport]:
    """Shots as they are done, each in a process of its own on this machine."""
    with ThreadPoolExecutor(max(1, workers), thread_name_prefix="wertis-work") as pool:
        for future in as_completed([pool.submit(_in_process, path, out, task, folder, workers) for task in tasks]):
            yield future.result()


def _on_cluster(cluster: Cluster, path: Path, out: Path, tasks: list[Task], folder: Path) -> Iterator[ShotReport]:
    """Shots as they are done by the processes of a cluster."""
    from wertis.scripting.parts import shots_on_cluster

    by_name = {t.name: t for t in tasks}
    for name in shots_on_cluster(cluster, path, list(by_name)):
        found = _kept(out, by_name[name], folder)
        yield found if found is not None else ShotReport(name=name, state="failed", error="Nothing of it was kept; is the list's folder the same there?")


def _in_process(path: Path, out: Path, task: Task, folder: Path, workers: int) -> ShotReport:
    """One shot, in a process of its own, so that nothing that happens there ends the list."""
    # several shots at a time share the machine's threads
    threads = str(max(1, (os.cpu_count() or 1) // workers))
    environment = {**os.environ, "OMP_NUM_THREADS": threads}
    why = ""
    for _ in range(1 + _RETRIES):
        call = [sys.executable, "-m", "wertis.cli.main", "run", str(path), "--only", task.name]
        ended = subprocess.run(call, capture_output=True, text=True, check=False, env=environment)
        found = _kept(out, task, folder)
        if found is not None and found.state != "running":
            return found
        why = ended.stderr.strip().splitlines()[-1] if ended.stderr.strip() else f"it ended with {ended.returncode}"
    report = ShotReport(name=task.name, state="failed", error=f"Its process ended before it was done: {why}")
    _keep(out, task, folder, report)
    return report


def run_one(path: Path, name: str) -> ShotReport:
    """Do one shot of a list, here.

    Raises
    ------
    WertisError
        When the list cannot be read, or has no such shot.
    """
    tasks, folder = load(path), path.resolve().parent
    task = next((t for t in tasks.shots if t.name == name), None)
    if task is None:
        raise WertisError(f"The list has no shot named {name}.")
    out = folder / tasks.out
    out.mkdir(parents=True, exist_ok=True)
    report = ShotReport(name=task.name, level=task.limit)
    interrupted = _kept(out, task, folder) is not None  # made of the same: frames that are there are of this render
    _keep(out, task, folder, report)
    try:
        _do(task, folder, out, report, interrupted)
        report.state = "done"
    except (WertisError, ValidationError) as why:
        report.state, report.error = "failed", str(why).splitlines()[0]
    except Exception as why:  # one shot's trouble is that shot's alone
        report.state, report.error = "failed", f"{type(why).__name__}: {why}"
    _keep(out, task, folder, report)
    return report


def _do(task: Task, folder: Path, out: Path, report: ShotReport, resume: bool) -> None:
    """All that is asked for; what there is at each point is kept. A render goes on where it was (`resume`), or begins anew."""
    saved = out / f"{task.name}.wertis"
    with _timed(report, "open"):
        shot, surfaces = _begun(task, folder, report)
    if task.range is not None:
        shot.range = task.range
    for surface in surfaces:
        if task.track and surface.record.solution is None:
            with _timed(report, "track"):
                surface.track()
            shot.save(saved)
        report.lost.update(surface.lost)
        for graphic in task.graphics if not task.template else []:
            surface.place(folder / graphic.artwork, graphic.corners, surface.record.region.frame, "", graphic.fit, graphic.blend, graphic.opacity)
        if task.check or task.repair is not None:
            _checked(shot, surface, task, report)
        if task.match:
            with _timed(report, "match"):
                for placed in surface.placements:
                    placed.match()
        for export in task.export:
            if export.track in ("", surface.name):
                with _timed(report, "export"):
                    report.files.append(_exported(surface, export, folder, len(surfaces) > 1 and not export.track))
    missing = {e.track for e in task.export} - {"", *(s.name for s in surfaces)}
    if missing:
        raise WertisError(f"The shot has no surface named {min(missing)} to export; it has: {', '.join(s.name for s in surfaces) or 'none'}.")
    shot.save(saved)
    report.files.append(str(saved.relative_to(folder)) if saved.is_relative_to(folder) else str(saved))
    if task.render:
        with _timed(report, "render"):
            left = shot.render(_written_to(folder, task.render), task.what, resume=resume)
        report.files.append(task.render)
        if left:
            report.needs.append(f"{len(left)} frames could not be rendered ({', '.join(map(str, sorted(left)[:4]))})")
    for matte in task.mattes:
        with _timed(report, "mattes"):
            empty = shot.matte_named(matte.of).render(_written_to(folder, matte.out))
        report.files.append(matte.out)
        if empty:
            report.needs.append(f"the matte {matte.of} could not be made on {len(empty)} frames ({', '.join(map(str, sorted(empty)[:4]))})")
    judge(shot, surfaces, report)


def _exported(surface: Surface, export: ExportTask, folder: Path, named: bool) -> str:
    """Write a file of a surface's motion; its name, in which the surface's stands where it is to be `named`."""
    out = Path(export.out)
    name = str(out.with_name(f"{out.name.split('.', 1)[0]}.{surface.name.replace('/', '-')}.{out.name.split('.', 1)[-1]}")) if named else export.out
    path = _written_to(folder, name)
    if export.what == "mesh":
        surface.export_mesh(path, **export.options)
        return name
    there = [p for p in surface.placements if export.placement in ("", p.name)]
    if export.placement and not there:
        raise WertisError(f"{surface.name} has no graphic named {export.placement}.")
    surface.export_motion(path, export.what, there[0] if there else None, export.reference, export.repaired, relative=export.relative, **export.options)
    return name


def _written_to(folder: Path, name: str) -> Path:
    path = folder / name
    path.parent.mkdir(parents=True, exist_ok=True)
    return path


def _begun(task: Task, folder: Path, report: ShotReport) -> tuple[Shot, list[Surface]]:
    """The shot to begin with, and the surfaces that are worked on."""
    if task.shot:
        shot = wertis.open(folder / task.shot)
        if task.plate:
            shot.replace_plate(folder / task.plate)
        return shot, shot.surfaces
    shot = wertis.open(folder / task.plate)
    if task.template:
        return shot, _from_template(shot, folder / task.template, report)
    assert task.region is not None and task.start is not None
    return shot, [shot.add(task.region, task.start, "Surface", task.model)]


def _from_template(shot: Shot, path: Path, report: ShotReport) -> list[Surface]:
    """The template's surfaces where they are in this plate, with their graphics."""
    template = wertis.open(path)
    made: list[Surface] = []
    for theirs in template.surfaces:
        found = find_surface(template.document, theirs.record, shot.plate)
        there = homography.apply(found.matrix, theirs.record.region.array)
        inside = np.clip(there, 0.5, np.array(shot.plate.size) - 0.5)
        surface = shot.add(inside, found.frame, theirs.name, getattr(theirs.record.settings, "model", "perspective"))
        report.notes.append(f"{theirs.name} is found on frame {found.frame} ({found.agreeing} features agree)")
        for placement in theirs.placements:
            corners = placement.corners(theirs.record.region.frame)
            if corners is not None:
                _placed_like(shot, surface, placement.record, homography.apply(found.matrix, corners), found.frame)
        made.append(surface)
    return made


def _placed_like(shot: Shot, surface: Surface, record: Placement, corners: np.ndarray, frame: int) -> None:
    """A graphic of a template on a surface of this shot."""
    placed = surface.place("grid", corners, frame, record.name)
    placed.change(artwork=record.artwork.but(start=shot.range[0]) if record.artwork.kind == "sequence" else record.artwork, fit=record.fit,
                  blend=record.blend, opacity=record.opacity, quad=as_points(corners), ratio=record.ratio, tiles=record.tiles, shadow=record.shadow)


def _checked(shot: Shot, surface: Surface, task: Task, report: ShotReport) -> None:
    with _timed(report, "check"):
        found = surface.check()
    if task.repair is not None and np.isfinite(found.worst) and found.worst > task.repair:
        with _timed(report, "repair"):
            surface.repair(task.repair)
            found = surface.check()
        report.repaired += surface.record.layer(RepairLayer).frames(surface.record.reference)
    note_drift(report, shot, surface, found)


@contextmanager
def _timed(report: ShotReport, what: str) -> Iterator[None]:
    begun = time.perf_counter()
    try:
        yield
    finally:
        report.seconds[what] = round(report.seconds.get(what, 0.0) + time.perf_counter() - begun, 2)


# -- what is kept ---------------------------------------------------------------------------------------------------


def _state_file(out: Path, task: Task) -> Path:
    return out / f"{task.name}.state.json"


def _keep(out: Path, task: Task, folder: Path, report: ShotReport) -> None:
    """What came of a shot, and of what it was made; written whole or not at all."""
    write_text(_state_file(out, task), json.dumps({"made_of": fingerprint(task, folder), "report": report.model_dump(mode="json")}))


def _kept(out: Path, task: Task, folder: Path) -> ShotReport | None:
    """What came of a shot before, where it was made of the same and its files are there."""
    try:
        body = json.loads(_state_file(out, task).read_text("utf-8"))
        report = ShotReport.model_validate(body["report"])
        if body["made_of"] != fingerprint(task, folder):
            return None
    except (OSError, ValueError, KeyError, TypeError):
        return None
    there = (out / f"{task.name}.wertis").exists() or report.state != "done"
    return report if there else None
