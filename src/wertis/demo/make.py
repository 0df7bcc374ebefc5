"""The demo shots on disk: made once into the person's data folder, with their truth and a shot that is already tracked."""

import json
import shutil
import threading
from collections.abc import Generator, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import cv2
import numpy as np
import platformdirs

import wertis
from wertis.core.blas import single_threaded
from wertis.core.errors import DeliverError
from wertis.core.geometry import homography
from wertis.core.jobs.camera import pick_planes, solve_shot
from wertis.core.jobs.events import Counter, Event, Stop, stopped
from wertis.core.jobs.tracking import kept, runs_from, track_shot
from wertis.core.shot import store
from wertis.core.shot.cameras import CameraSettings
from wertis.core.shot.document import PlaneSolution, Shot
from wertis.core.shot.edits import add_track
from wertis.demo import graphics
from wertis.demo.sail import CLOTH, Sail, SailFilm
from wertis.demo.scene import FIRST, Film, Scene, quay
from wertis.demo.walk import Walk, WalkFilm

VERSION = 9
FRAMES = 60
FILMS = {"tea_crate": Film(FRAMES, "", 11), "tea_crate_passers": Film(FRAMES, "barrow", 12), "tea_crate_awning": Film(FRAMES, "awning", 13),
         "docker": Film(FRAMES, "docker", 14)}
SAILS = {"sail": SailFilm(FRAMES, 21)}
WALKS = {"walk": WalkFilm(FRAMES, 31)}
ALL = (*FILMS, *SAILS, *WALKS)
TITLES = {"tea_crate": "Tea crate", "tea_crate_passers": "Tea crate with rope and barrow",
          "tea_crate_awning": "Tea crate behind an awning, which needs a hold-out"}
TITLES["docker"] = "Docker's arm, ship's cat and a line, for mattes"
TITLES["sail"] = "Sail that ripples and folds"
TITLES["walk"] = "Walk along the quay, for a solved camera"
SAIL_TRACKED = "Brindle Quay sail.wertis"
SAIL, WALK = "sail", "walk"
WALK_SOLVED = "Brindle Quay walk.wertis"
WALK_SIGNS = "Brindle Quay walk, signs on points.wertis"
DOCKER, PASSED = "docker", "tea_crate_passers"
RELETTERED = "Brindle Quay, new lettering.wertis"
ROPE_AWAY = "Brindle Quay, rope taken away.wertis"
_LABEL = 0.17, 0.83  # of the crate's front, within which its label lies
_GAPS = (0.199, 0.400, 0.598, 0.799)  # of its height, where planks meet behind the label
DOCKER_CUT_OUT = "Brindle Quay docker.wertis"
_SOFT = ("softness", "shutter")  # what the signs on points are matched in
_KEYS = 4  # frames between the keys of what moves by itself in that shot
_ENOUGH = 20  # frames from which the walk's camera can be solved
TRACKED = "Brindle Quay.wertis"
DRIFTING = "Brindle Quay, drifting.wertis"
FIRST_FILM = "tea_crate"  # the one that is tracked; made first, so that there is something to see soon

_making = threading.Lock()  # a second wish waits for the first and finds the shots made


def folder() -> Path:
    """Where the demo shots are kept."""
    return Path(platformdirs.user_data_dir("wertis")) / f"demo-{VERSION}"


def ready(where: Path | None = None, names: Iterable[str] = ALL) -> bool:
    """Whether these demo shots have been made."""
    return all(((where or folder()) / f"{name}.made").exists() for name in names)


def steps(names: Iterable[str] = ALL, where: Path | None = None) -> int:
    """How many steps making these shots takes."""
    return sum(FRAMES + (FRAMES - 1) * (n in (FIRST_FILM, SAIL, WALK, DOCKER, PASSED)) for n in names if not ready(where, [n]))


def make(where: Path | None = None, frames: int = FRAMES, names: Iterable[str] = ALL, stop: Stop | None = None) -> Iterator[Event]:
    """Make the demo shots of these names; nothing is done when they are there. Stopped before its end, what is not whole is made anew the next time.

    Parameters
    ----------
    where : the folder; `folder()` when not given.
    frames : how many frames of each, from its first; fewer for tests.

    Raises
    ------
    DeliverError
        When the folder cannot be written to.
    """
    root, wanted = where or folder(), list(names)
    with _making:
        count = Counter(steps(wanted, root))
        for name, text in _made(root, frames, wanted):
            yield count.event(None, note=text, of=(name, text))
            if stopped(stop):
                return
        quay.cache_clear()  # 25 MB


def _made(root: Path, frames: int, names: Iterable[str]) -> Iterator[tuple[str, str]]:
    try:
        for name in names:
            if ready(root, [name]):
                continue
            shutil.rmtree(root / name, ignore_errors=True)
            (root / name).mkdir(parents=True)
            scene = Sail(SAILS[name]) if name in SAILS else Walk(WALKS[name]) if name in WALKS else Scene(FILMS[name])
            for text in _film(root / name, scene, frames):
                yield name, text
            if name == FIRST_FILM:
                graphics.write_all(root / "graphics")
                for text in _tracked_shot(root):
                    yield name, text
            if name == PASSED and frames >= _ENOUGH:
                graphics.write_all(root / "graphics")
                for text in _rope_taken_away(root):
                    yield name, text
            if name == DOCKER:
                graphics.write_all(root / "graphics")
                for text in _cut_out_docker(root, frames):
                    yield name, text
            if name == SAIL:
                graphics.write_all(root / "graphics")
                for text in _tracked_sail(root, frames):
                    yield name, text
            if name == WALK and frames >= _ENOUGH:
                graphics.write_all(root / "graphics")
                for text in _solved_walk(root):
                    yield name, text
            if name == WALK:
                graphics.write_all(root / "graphics")
                yield name, _signs_on_points(root)
            (root / f"{name}.made").write_text(f"{VERSION}\n")
    except OSError as why:
        raise DeliverError(f"The demo shots cannot be made in {root} ({why.strerror or why}); free some space (about 40 MB), or set "
                           "XDG_DATA_HOME to another folder.") from why


def _film(where: Path, scene: Scene | Sail | Walk, frames: int) -> Iterator[str]:

    def one(index: int) -> int:
        path = where / f"{where.name}.{FIRST + index:04d}.jpg"
        if not cv2.imwrite(str(path), scene.frame(index)[..., ::-1], [cv2.IMWRITE_JPEG_QUALITY, 95]):
            raise OSError(f"{path.name} was not written")
        return FIRST + index

    threads = cv2.getNumThreads()
    cv2.setNumThreads(1)  # frames are made side by side instead
    try:
        with ThreadPoolExecutor(2) as pool:
            for frame in pool.map(one, range(frames)):
                yield f"{where.name} {frame}"
    finally:
        cv2.setNumThreads(threads)
    truth = {str(FIRST + i): scene.truth(i).round(4).tolist() for i in range(frames)}
    what = "corners of the crate's front, of the sail, or of the mural's place, clockwise from the top left; pixels, first centre at 0.5,0.5"
    (where / "truth.json").write_text(json.dumps({"what": what, "corners": truth}))


def front_corners(where: Path, frame: int = FIRST) -> np.ndarray:
    """The true corners (4, 2) of the crate's front on a frame of a demo shot."""
    return np.array(json.loads((where / "truth.json").read_text())["corners"][str(frame)])


def _tracked_crate(root: Path, film: str, name: str) -> Generator[str, None, wertis.Shot]:
    """A shot whose crate is tracked and has a poster on it."""
    shot = wertis.open(root / film)
    onto = homography.from_unit_square(front_corners(root / film))
    region = homography.apply(onto, np.array([[.04, .05], [.96, .05], [.96, .95], [.04, .95]]))
    crate = shot.add(region, FIRST, "Crate front")
    answers = {}
    with single_threaded():
        for event in track_shot(shot.document, crate.id, shot.plate, runs_from(shot.document, crate.record, FIRST, "both")):
            answers[event.frame] = event.item
            yield f"tracking {event.frame}"
    tracked = kept(shot.document, crate.id, answers)  # type: ignore[arg-type]
    shot.opened.do("Track", tracked.but(name=name))
    corners = homography.apply(onto, np.array([[.185, .185], [.815, .185], [.815, .815], [.185, .815]]))
    poster = crate.place(root / "graphics" / "night_market.png", corners, FIRST, "Night market", fit="stretch")
    yield "matching the poster"
    poster.match()
    return shot


def _relettered(root: Path, shot: wertis.Shot) -> Iterator[str]:
    """The crate's label taken off by a patch, and new lettering stencilled on the wood; from the tracked shot."""
    shot.opened.do("Name it", shot.document.but(name="Brindle Quay, new lettering", items=()))
    crate = shot.surface("Crate front")
    patch = crate.take_out(FIRST, crate.record.region.array, name="Bare wood")
    size = np.array(patch.size)
    yield "filling where the label was"
    low, high = ((np.array([v, v]) - [0.04, 0.05]) / [0.92, 0.9] for v in (_LABEL[0], _LABEL[1]))
    patch.paint("fill", np.array([low, [high[0], low[1]], high, [low[0], high[1]]]) * size, seed=1)
    for y in _GAPS:  # the gaps between the planks go on from beside the label
        y_flat = (y - 0.05) / 0.9 * size[1]
        for x in np.arange(low[0] - 0.01, high[0] + 0.01, 0.045):
            ends = [[x * size[0], y_flat], [(x + 0.045) * size[0], y_flat]]
            patch.paint("clone", ends, radius=7.0, hardness=0.4, offset=(round(float((0.062 - x) * size[0])), 0.0))
    patch.match(["light", "shutter", "focus"])
    onto = homography.from_unit_square(front_corners(root / FIRST_FILM))
    place = homography.apply(onto, np.array([[0.2, 0.26], [0.8, 0.26], [0.8, 0.74], [0.2, 0.74]]))
    words = crate.write("HARBOUR\nSTORES 12", place, FIRST, colour=(0.12, 0.1, 0.09))
    words.change(name="Stencil", opacity=0.88)
    words.match()
    words.set_match(texture=1.4, coarse=14.0)
    shot.save(root / RELETTERED)


def _rope_taken_away(root: Path) -> Iterator[str]:
    """The crate behind rope and barrow, with both taken away by a clean plate that was joined from the shot itself."""
    shot = yield from _tracked_crate(root, PASSED, "Brindle Quay, rope taken away")
    shot.opened.do("Begin", shot.document.but(items=()))
    crate = shot.surface("Crate front")
    patch = crate.take_out(FIRST, crate.record.region.array, name="Without the rope")
    yield "joining the clean plate"
    patch.clean_plate()
    patch.change(cover="all", soft=6.0)
    patch.match(["light", "shutter", "focus", "grain"])
    shot.save(root / ROPE_AWAY)


def _cut_out_docker(root: Path, frames: int) -> Iterator[str]:
    """The docker's shot with its mattes: his arm in two pieces before the poster, the cat's eyes tinted, and light that runs along the line."""
    scene = Scene(FILMS[DOCKER])
    alpha = root / f"{DOCKER}_alpha"
    alpha.mkdir(exist_ok=True)
    for index in range(frames):
        cv2.imwrite(str(alpha / f"alpha.{FIRST + index:04d}.png"), np.asarray(scene.cover(index) * 255 + 0.5, np.uint8))
    shot = yield from _tracked_crate(root, DOCKER, "Brindle Quay docker")
    crate = shot.surface("Crate front")
    keyed = sorted({*range(0, frames, _KEYS), frames - 1})
    there = {index: scene.docker(index) for index in keyed}
    arm = shot.matte(None, FIRST, None, "Docker")
    for name in ("Hand", "Sleeve"):
        ident = arm.add(there[keyed[0]][name].points, FIRST)
        for k, round_ in enumerate(there[keyed[0]][name].roundness):
            arm.shape_points(ident, [k], roundness=float(round_))
        for index in keyed[1:]:
            arm.key(FIRST + index, there[index][name].points, ident)
        arm.change_shape(ident, name=name)
    arm.change(shutter=180.0)
    arm.hold_back(crate.placements[0])
    eyes = shot.matte(None, FIRST, crate, "Cat's eyes")
    for name in ("Eye 1", "Eye 2"):
        ident = eyes.add(there[0][name].points, FIRST, soft=0.8)
        eyes.shape_points(ident, [0, 4], outer=2.5).change_shape(ident, name=name)  # softer towards the corners
    crate.grade([eyes], name="Green eyes", slope=(0.35, 1.15, 0.45), saturation=1.5)
    light = shot.matte(None, FIRST, crate, "Line")
    ident = light.add(scene.line(0), FIRST, width=5.0, closed=False)
    for index in keyed[1:]:
        light.key(FIRST + index, scene.line(index), ident)
    light.line(ident, end={FIRST: 0.0, FIRST + frames - 1: 1.0})
    crate.fill([light], name="Light", colour=(1.0, 0.74, 0.36), blend="plus-lighter", glow=(5.0, 18.0), glow_strength=0.5, held_back=(arm.id,))
    shot.save(root / DOCKER_CUT_OUT)


def _tracked_shot(root: Path) -> Iterator[str]:
    shot = yield from _tracked_crate(root, "tea_crate", "Brindle Quay")
    shot.save(root / TRACKED)
    store.save(_spoilt(shot.document), root / DRIFTING)
    yield from _relettered(root, shot)


def _tracked_sail(root: Path, frames: int) -> Iterator[str]:
    scene = Sail(SAILS[SAIL])
    w, h = CLOTH
    shot = wertis.open(root / SAIL)
    region = scene.seen(np.array([[.03, .04], [.97, .04], [.97, .96], [.03, .96]]) * CLOTH, 0)
    sail = shot.add(region, FIRST, "Sail", "mesh")
    answers = {}
    with single_threaded():
        for event in track_shot(shot.document, sail.id, shot.plate, runs_from(shot.document, sail.record, FIRST, "both")):
            answers[event.frame] = event.item
            yield f"tracking {event.frame}"
    shot.opened.do("Track", kept(shot.document, sail.id, answers).but(name="Brindle Quay sail"))  # type: ignore[arg-type]
    middle, side = np.array([w * .47, h * .5]), h * .66
    corners = scene.seen(middle + side / 2 * np.array([[-1, -1], [1, -1], [1, 1], [-1, 1]]), 0)
    sail.place(root / "graphics" / "emblem.png", corners, FIRST, "Emblem", fit="stretch", blend="multiply")
    shot.save(root / SAIL_TRACKED)


def _solved_walk(root: Path) -> Iterator[str]:
    shot = wertis.open(root / WALK)
    document = shot.document
    with single_threaded():
        for event in solve_shot(document, shot.plate):
            document = event.item if isinstance(event.item, Shot) else document
            if event.frame is not None:
                yield f"solving {event.frame}"
        corners = front_corners(root / WALK)
        document, track = add_track(document, corners, FIRST, "Wall")
        document = document.with_track(track.but(settings=CameraSettings()))
        for event in pick_planes(document, shot.plate, [track.id]):
            document = event.item if isinstance(event.item, Shot) else document
    shot.opened.do("Solve", document.but(name="Brindle Quay walk"))
    shot.surface("Wall").place(root / "graphics" / "night_market.png", corners, FIRST, "Mural", fit="fit", blend="multiply", opacity=0.9)
    shot.save(root / WALK_SOLVED)


def _signs_on_points(root: Path) -> str:
    """Signs carried by one, two and four points of the walk; what it did, in words."""
    scene, shot = Walk(WALKS[WALK]), wertis.open(root / WALK)
    shot.opened.do("Name it", shot.document.but(name="Brindle Quay walk, signs on points"))
    crates = [homography.from_unit_square(scene.seen(scene.crate_front(k), 0)) for k in (1, 4)]
    inside = np.array([[.04, .05], [.96, .05], [.96, .95], [.04, .95]])
    left, right = _LABEL[0] - .01, _LABEL[1] + .01  # the printed label and a little more
    over = np.array([[left, .16], [right, .16], [right, .84], [left, .84]])
    house = scene.seen(scene.house, 0)
    on_house = homography.apply(homography.from_unit_square(house), np.array([[.33, .12], [.67, .12], [.67, .50], [.33, .50]]))
    for name, region, count, model, place, picture in (
            ("House, one point", house, 1, "shift", on_house, "emblem"),
            ("Crate, two points", homography.apply(crates[0], inside), 2, "similarity", homography.apply(crates[0], over), "tide_table"),
            ("Crate, four points", homography.apply(crates[1], inside), 4, "perspective", homography.apply(crates[1], over), "night_market")):
        spots = shot.good_spots(region, FIRST, count, 60.0 if count > 1 else 0.0)
        sign = shot.track(region, FIRST, "points", name, points=spots).use_points(model=model)
        sign.place(root / "graphics" / f"{picture}.png", place, FIRST, picture.replace("_", " ").capitalize(), fit="stretch").match(_SOFT)
    shot.save(root / WALK_SIGNS)
    return "tracking the signs' points"


def _spoilt(shot: Shot) -> Shot:
    """The tracked shot with its motion spoilt on purpose, to learn checking and repairing on: a drift that grows, and one corner that jumps."""
    track = shot.tracks[0]
    solution = track.solution
    assert isinstance(solution, PlaneSolution)
    corners = shot.placements(track.id)[0].array
    first, last = int(solution.frames[0]), int(solution.frames[-1])
    matrices = solution.matrices.copy()
    for k, frame in enumerate(solution.frames):
        part = (frame - first) / max(1, last - first)
        slip = np.tile([3.2 * part, -2.1 * part], (4, 1))
        if abs(int(frame) - (first + 18)) <= 1:
            slip[1] += [4.0, 2.5]
        matrices[k] = homography.from_points(corners, homography.apply(matrices[k], corners) + slip)
    return shot.with_track(track.but(solution=solution.but(matrices=matrices))).but(name="Brindle Quay, drifting")
