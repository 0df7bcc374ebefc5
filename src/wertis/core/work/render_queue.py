"""A queue of renders and exports in the background: a list of work with a snapshot of each shot, and how far each is."""

import json
import re
from pathlib import Path
from typing import Any, Literal, NamedTuple

import platformdirs

from wertis.core.errors import WertisError
from wertis.core.files import numbered, write_text
from wertis.core.shot import store
from wertis.core.shot.document import Shot
from wertis.core.work.task_list import ExportTask, MatteTask, Task, TaskList


class Progress(NamedTuple):
    """How far a render or an export is.

    Attributes
    ----------
    name : of the entry.
    target : what is written.
    done, total : frames that were written since the entry was added; of a movie or another single file none in all.
    state : waiting, running, done or failed.
    words : what is wrong, or has to be looked at.
    """

    name: str
    target: str
    done: int
    total: int
    state: str
    words: str


def usual_folder() -> Path:
    """Where the list and its snapshots are kept."""
    return Path(platformdirs.user_data_dir("wertis", appauthor=False)) / "queue"


class RenderQueue:
    """Renders in a folder, one after the other; they outlive the program, so that they can be gone on with.

    Parameters
    ----------
    folder : made when something is added.
    """

    def __init__(self, folder: Path | None = None) -> None:
        self.folder = folder or usual_folder()

    @property
    def file(self) -> Path:
        """The list of work, as `wertis run` takes it."""
        return self.folder / "list.json"

    @property
    def tasks(self) -> list[Task]:
        """What is on it; nothing where it is not there, or damaged."""
        try:
            return TaskList.model_validate(json.loads(self.file.read_text("utf-8"))).shots
        except (OSError, ValueError, RecursionError):
            return []

    def add(self, shot: Shot, pattern: str, what: Literal["comp", "graphic"] = "comp", matte: str = "") -> str:
        """Put a render of a shot as it is now on the list, or of one of its mattes, by its name; the entry's name.

        Raises
        ------
        WertisError
            When it cannot be kept.
        """
        path = str(Path(pattern).absolute())
        return self._add(shot, {"mattes": [MatteTask(of=matte, out=path)]} if matte else {"render": path, "what": what})

    def add_export(self, shot: Shot, export: ExportTask) -> str:
        """Put an export of a shot's motion as it is now on the list; the entry's name.

        Raises
        ------
        WertisError
            When it cannot be kept.
        """
        return self._add(shot, {"export": [export.model_copy(update={"out": str(Path(export.out).absolute())})]})

    def _add(self, shot: Shot, what: dict[str, Any]) -> str:
        """Put something on the list; the entry's name.

        Raises
        ------
        WertisError
            When it cannot be kept.
        """
        there = {t.name for t in self.tasks}
        stem = re.sub(r"[^\w.-]+", "_", shot.name).strip("._")[:60] or "shot"
        name = next(n for k in range(1, 100_000) if (n := f"{stem}_{k}") not in there)
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
        except OSError as why:
            raise WertisError(f"{self.folder} cannot be made ({why.strerror}); free some space or allow writing there.") from why
        snapshot = self.folder / f"{name}.snapshot.wertis"
        store.save(shot, snapshot)
        task = Task(name=name, shot=str(snapshot), range=shot.range, track=False, check=False, **what)
        self._write([*self.tasks, task])
        return name

    def clear(self) -> None:
        """Take what is done or failed off the list, snapshots and all; what was rendered stays."""
        over = {p.name for p in self.progress() if p.state in ("done", "failed")}
        left = [t for t in self.tasks if t.name not in over]
        for name in over:
            for path in (self.folder / f"{name}.snapshot.wertis", self.folder / "out" / f"{name}.wertis", self.folder / "out" / f"{name}.state.json"):
                path.unlink(missing_ok=True)
        if left:
            self._write(left)
        else:
            self.file.unlink(missing_ok=True)

    def next(self) -> str | None:
        """The name of the first entry that is neither done nor has failed; None where there is none."""
        return next((p.name for p in self.progress() if p.state in ("waiting", "running")), None)

    def progress(self) -> list[Progress]:
        """How far each entry is, by what stands on the disk."""
        out = []
        for task in self.tasks:
            state, words = "waiting", ""
            frames = range(task.range[0], task.range[1] + 1) if task.range is not None else range(0)
            try:
                report = json.loads((self.folder / "out" / f"{task.name}.state.json").read_text("utf-8"))["report"]
                state = report["state"]
                words = report["error"] or "; ".join(report["needs"])
            except (OSError, ValueError, KeyError, TypeError):
                pass
            target, by = _written(task)
            files = [p for f in frames if (p := numbered(Path(target), f + by)) is not None]
            done = len(files) if state == "done" else sum(_newer(p, Path(task.shot)) for p in files)
            out.append(Progress(task.name, target, done, len(files), state, words))
        return out

    def _write(self, tasks: list[Task]) -> None:
        write_text(self.file, TaskList(out="out", shots=tasks).model_dump_json(indent=1) + "\n")


def _written(task: Task) -> tuple[str, int]:
    """What an entry writes, and by how much its frames are numbered otherwise than the shot's."""
    if task.export:
        export = task.export[0]
        return export.out, export.first - task.range[0] if export.first is not None and task.range is not None else 0
    return (task.mattes[0].out if task.mattes else task.render), 0


def _newer(path: Path, than: Path) -> bool:
    """Whether a file was written after another one."""
    try:
        return path.stat().st_mtime_ns >= than.stat().st_mtime_ns
    except OSError:
        return False
