"""The `wertis` command. Each command imports what it needs when it runs, so that short ones start quickly."""

import argparse
import logging
import sys
from collections.abc import Sequence
from importlib import import_module

from wertis import __version__
from wertis.cli.cluster import add_cluster
from wertis.cli.exits import EXIT_ERROR, EXIT_STOPPED, EXIT_USAGE
from wertis.core import log
from wertis.core.errors import WertisError

# command to the module and function that run it; each is imported when it is wanted
COMMANDS = {"track": ("wertis.cli.track", "run_track"), "check": ("wertis.cli.check", "run_check"), "repair": ("wertis.cli.repair", "run_repair"),
            "motion": ("wertis.cli.motion", "run_motion"), "render": ("wertis.cli.deliver", "run_render"), "matte": ("wertis.cli.deliver", "run_matte"),
            "export": ("wertis.cli.deliver", "run_export"), "cuts": ("wertis.cli.cuts", "run_cuts"), "solve": ("wertis.cli.solve", "run_solve"),
            "prove": ("wertis.cli.exchange", "run_prove"), "import": ("wertis.cli.exchange", "run_import"), "place": ("wertis.cli.place", "run_place"),
            "run": ("wertis.cli.run", "run_run"), "desktop": ("wertis.cli.desktop", "run_desktop"),
            "match": ("wertis.cli.place", "run_match"), "patch": ("wertis.cli.patch", "run_patch"),
            "demo": ("wertis.cli.window", "run_demo"),
            "open": ("wertis.cli.window", "run_open")}


def build_parser() -> argparse.ArgumentParser:
    """The whole command line."""
    parser = argparse.ArgumentParser(
        prog="wertis", description="Track surfaces in a shot and make graphics stick to them.",
        epilog="Coordinates are in pixels, y down, first pixel's centre at 0.5,0.5. Exit codes: 0 done, 1 error, 2 wrong usage, "
               "3 nothing was found, 4 over the limit given, 130 stopped.")
    parser.add_argument("--version", action="version", version=f"Wertis {__version__}")
    parser.add_argument("--verbose", action="store_true", help="tell what is going on inside, with tracebacks, as the log file does")
    commands = parser.add_subparsers(dest="command", metavar="COMMAND")

    demo = commands.add_parser("demo", help="open the window with the demo shots (made on first start)")
    demo.add_argument("--make-only", action="store_true", help="make the demo shots and print where they are; open no window")

    show = commands.add_parser("open", help="open a shot file, a folder of frames or a movie in the window")
    show.add_argument("shot", nargs="?", help="a .wertis file, a folder, a sequence pattern or a movie")

    track = commands.add_parser("track", help="track a plane, a mesh, points or every pixel; write where it goes as CSV, or begin a shot with it")
    track.add_argument("plate", help="a folder of frames, a sequence pattern (name.%%04d.png, name.####.png) or a movie")
    track.add_argument("--start", type=int, required=True, metavar="FRAME", help="frame on which region and corners are given")
    track.add_argument("--region", metavar='"x,y x,y ..."', help="outline of the surface on the start frame; without it dense takes the whole picture")
    track.add_argument("--corners", metavar='"x,y x,y x,y x,y"', help="four points to follow (default: the region, when it has four)")
    track.add_argument("--model", default="perspective", metavar="KIND",
                       help="shift, shift-scale, shift-turn, similarity (shift, scale, turn), affine (with shear), perspective (default), "
                            "mesh for a surface that bends, points for single spots, or dense for every pixel")
    track.add_argument("--points", metavar="IN.csv",
                       help="mesh, points, dense: points to follow, id,x,y on the start frame; --out gets frame,id,x,y, of points and dense an error too")
    track.add_argument("--pegs", metavar="PEGS.csv", help="with --model mesh: frame,id,x,y, known places of those points, through which the result passes")
    track.add_argument("--spacing", type=float, metavar="PX", help="with --model mesh: pixels between vertices (default: about 200 vertices)")
    track.add_argument("--stiffness", type=float, metavar="0-100", help="with --model mesh: 0 cloth to 100 board (default: from the pictures)")
    track.add_argument("--further", metavar="FRAME,FRAME", help="with --model mesh: frames that stand in for the start frame where the surface looks "
                       "otherwise there; best on frames with pegs")
    track.add_argument("--holdout", action="append", default=[], metavar='"x,y x,y ..."|MATTE',
                       help="take pixels away: a polygon that stays in the picture, or a matte sequence (white is held out); several allowed")
    track.add_argument("--look", default="mix", choices=["mix", "luma", "red", "green", "blue", "contrast"],
                       help="what the tracker looks at: its channels, mixed for most detail over least grain (default), brightness, one channel, "
                            "or brightness with its contrast raised")
    track.add_argument("--layer", default="", metavar="NAME", help="layer of the plate's EXR files to look at (default: the picture itself)")
    track.add_argument("--half", action="store_true", help="track at half the resolution")
    track.add_argument("--range", dest="range_", metavar="FIRST-LAST", help="frames to track (default: the whole plate)")
    track.add_argument("--no-cut", metavar="FRAME,FRAME", help="frames at which no other shot begins, however it looks")
    track.add_argument("--out", metavar="OUT.csv", help="file to write: frame,x1,y1,x2,y2,x3,y3,x4,y4; of a mesh frame,id,x,y of its points or vertices")
    track.add_argument("--workers", type=int, default=1, metavar="N", help="dense: processes that share the work (default: 1); needs --keep")
    add_cluster(track, chunks=True)
    track.add_argument("--keep", metavar="DIR", help="dense: folder in which the motion is kept, and found again; without it nothing is kept")
    track.add_argument("--save", metavar="SHOT.wertis", help="begin a shot with the track in it, to be opened, checked, repaired and rendered")
    track.add_argument("--name", default="Surface", metavar="NAME", help="name of the track in that shot")
    track.add_argument("--quiet", action="store_true", help="no progress")

    solve = commands.add_parser("solve", help="solve a plate's camera, and carry a rectangle of a flat part of the scene through the shot")
    solve.add_argument("plate", help="a folder of frames, a sequence pattern or a movie")
    solve.add_argument("--out", required=True, metavar="CAMERA.json",
                       help="file to write: focal length, error, a matrix for each frame, points; .json or .usd")
    solve.add_argument("--focal", type=float, metavar="PX", help="focal length in pixels, when it is known (default: solved)")
    solve.add_argument("--lens", type=int, nargs="?", const=1, default=0, choices=(0, 1, 2), help="solve for so many radial terms of the lens as well (1)")
    solve.add_argument("--zoom", action="store_true", help="the focal length changes from frame to frame; CAMERA.json then has one of each frame")
    solve.add_argument("--start", type=int, metavar="FRAME", help="frame on which the corners are given")
    solve.add_argument("--corners", metavar='"x,y x,y x,y x,y"', help="corners of a rectangle on a flat part of the scene")
    solve.add_argument("--ground", metavar='"x,y x,y x,y ..."', help="three or more places of the ground on frame --start: the world stands on it")
    solve.add_argument("--distance", nargs=2, metavar=('"x,y x,y"', "D"), help="two places on frame --start, how far apart: the world's scale")
    solve.add_argument("--pin", metavar="OUT.csv", help="file to write: frame,x1,y1,x2,y2,x3,y3,x4,y4 of those corners")
    solve.add_argument("--holdout", action="append", default=[], metavar='"x,y x,y ..."|MATTE', help="what does not count, as for wertis track")
    solve.add_argument("--layer", default="", metavar="NAME", help="layer of the plate's EXR files to look at")
    solve.add_argument("--range", dest="range_", metavar="FIRST-LAST", help="frames to solve (default: the whole plate)")
    solve.add_argument("--save", metavar="SHOT.wertis", help="keep the rectangle's plane as a track of a shot")
    solve.add_argument("--name", default="Plane", metavar="NAME", help="name of that track")
    solve.add_argument("--quiet", action="store_true", help="no progress")

    check = commands.add_parser("check", help="measure on the pictures how far a track drifts")
    check.add_argument("shot", help="a .wertis file")
    check.add_argument("--track", metavar="NAME", help="name of the track (default: the only one)")
    check.add_argument("--csv", metavar="FILE", help="file to write: frame, seen share, each corner's drift and uncertainty in pixels, the worst")
    check.add_argument("--report", metavar="FOLDER", help="folder for report.html and report.json: drift over frames, worst frames with the slip drawn")
    check.add_argument("--limit", type=float, metavar="PX", help="exit with code 4 when a frame drifts further than this")
    check.add_argument("--base", type=int, metavar="FRAME", help="the frame that counts as right (default: the reference frame)")
    check.add_argument("--range", dest="range_", metavar="FIRST-LAST", help="frames to measure (default: the shot's range)")
    check.add_argument("--quiet", action="store_true", help="no progress")
    check.add_argument("--workers", type=int, default=1, metavar="N", help="processes that look at the frames (default: 1)")
    add_cluster(check, chunks=True)

    repair = commands.add_parser("repair", help="set repair keys where a track drifts most, until it is under a level")
    repair.add_argument("shot", help="a .wertis file")
    repair.add_argument("--track", metavar="NAME", required=True, help="name of the track")
    repair.add_argument("--limit", type=float, required=True, metavar="PX", help="drift that may be left, in pixels")
    repair.add_argument("--out", metavar="FILE.wertis", help="save the repaired shot here (default: in place)")
    repair.add_argument("--range", dest="range_", metavar="FIRST-LAST", help="frames to look at (default: the shot's range)")
    repair.add_argument("--quiet", action="store_true", help="no progress")

    motion = commands.add_parser("motion", help="copy or blend a track's motion, or track it again from its repaired frames")
    motion.add_argument("shot", help="a .wertis file")
    motion.add_argument("--track", metavar="NAME", required=True, help="name of the track to change")
    motion.add_argument("--copy", metavar="NAME", help="move as this track does, repairs and all")
    motion.add_argument("--blend", metavar="NAME", help="go over to this track's motion within --range")
    motion.add_argument("--again", action="store_true", help="track the stretches next to repair keys again, through the repaired frames")
    motion.add_argument("--range", dest="range_", metavar="FIRST-LAST", help="frames over which the blend goes (default: the shot's range)")
    _add_saved(motion)

    place = commands.add_parser("place", help="put a graphic on a tracked surface")
    place.add_argument("shot", help="a .wertis file")
    place.add_argument("--artwork", required=True, metavar="FILE", help="a picture, a sequence pattern or a movie; or grid, checker, solid, gradient")
    place.add_argument("--track", metavar="NAME", help="name of the track (default: the only one)")
    place.add_argument("--frame", type=int, metavar="FRAME", help="frame on which the corners are (default: the region's)")
    place.add_argument("--corners", metavar='"x,y x,y x,y x,y"', help="where its corners go, clockwise from the top left (default: proposed)")
    place.add_argument("--whole", action="store_true", help="lay it over the frame's whole picture: artwork made on that frame lands where it was made")
    place.add_argument("--fit", choices=["fit", "fill", "stretch", "own"], default="fit", help="how its proportions meet the surface's")
    place.add_argument("--blend", default="normal", metavar="MODE", help="a mode of W3C Compositing and Blending, or plus-lighter")
    place.add_argument("--opacity", type=float, default=1.0, metavar="SHARE", help="0 to 1")
    place.add_argument("--match", action="store_true", help="measure softness, shutter, light and grain, and give them to it")
    place.add_argument("--name", help="of the graphic")
    _add_saved(place)

    match = commands.add_parser("match", help="make graphics look as if they had been filmed, by measuring the plate")
    match.add_argument("shot", help="a .wertis file")
    match.add_argument("--graphic", metavar="NAME", help="name of the graphic (default: all)")
    match.add_argument("--parts", metavar="A,B", help="of softness, shutter, light, grain (these four by default), focus and levels")
    _add_saved(match)

    patch = commands.add_parser("patch", help="take a surface out flat, join its clean plate, paint it elsewhere, and give it back to every frame")
    patch.add_argument("shot", help="a .wertis file")
    patch.add_argument("--of", metavar="NAME", help="a patch that is there (default: a new one is taken out)")
    patch.add_argument("--track", metavar="NAME", help="name of the track of a new one (default: the only one)")
    patch.add_argument("--frame", type=int, metavar="FRAME", help="frame that a new one is taken out of (default: the region's)")
    patch.add_argument("--corners", metavar='"x,y x,y x,y x,y"', help="its corners there, clockwise from the top left (default: the region)")
    patch.add_argument("--whole", action="store_true", help="the whole picture of the frame instead")
    patch.add_argument("--name", help="of a new one")
    patch.add_argument("--clean", action="store_true", help="join its clean plate from all frames that see the surface")
    patch.add_argument("--cover", choices=["changed", "all"], help="lay on what was changed, or all of it")
    patch.add_argument("--match", action="store_true", help="measure light, blur and grain, and give them to it")
    patch.add_argument("--write", metavar="FILE", help="write the flat picture (.exr, .tif, .png); with #### every frame, flat")
    patch.add_argument("--write-mask", metavar="FILE", help="write where the flat picture is laid on, white on black")
    patch.add_argument("--read", metavar="FILE", help="take what was painted elsewhere, a picture or a sequence (####)")
    patch.add_argument("--flicker", action="store_true", help="measure how much its border jumps from frame to frame")
    _add_saved(patch)

    render = commands.add_parser("render", help="render a shot to an image sequence or a movie")
    render.add_argument("shot", help="a .wertis file")
    render.add_argument("--out", required=True, metavar="PATTERN", help="such as out/comp.####.png, comp.%%04d.exr, comp.mp4 or comp.mkv")
    render.add_argument("--what", choices=["comp", "graphic"], default="comp", help="the comp, or the graphic alone with alpha")
    render.add_argument("--of", action="append", default=[], metavar="NAME",
                        help="lay this graphic, patch, colour or grade on the plate alone; may be repeated")
    render.add_argument("--range", dest="range_", metavar="FIRST-LAST", help="frames to render (default: the shot's range)")
    render.add_argument("--workers", type=int, default=1, metavar="N", help="processes that make the frames (default: 1)")
    add_cluster(render, chunks=True)
    render.add_argument("--clip", metavar="FILE.otio", help="write an OpenTimelineIO clip of it as well, for an edit")
    render.add_argument("--resume", action="store_true", help="keep frames of a sequence that are there, and go on with the rest")
    render.add_argument("--quiet", action="store_true", help="no progress")

    matte = commands.add_parser("matte", help="write a drawn matte, or one of what passes in front of a tracked surface, as pictures")
    matte.add_argument("shot", help="a .wertis file")
    matte.add_argument("--track", metavar="NAME", help="name of the track that something passes in front of")
    matte.add_argument("--behind", metavar="GRAPHIC", help="with --track: put that graphic behind the matte, so that it ends there, and save the shot")
    matte.add_argument("--of", metavar="NAME", action="append",
                       help="name of a matte that was drawn, instead; several become channels of an EXR")
    matte.add_argument("--part", metavar="NAME", help="with --of: only this shape or group of it")
    matte.add_argument("--parts", action="store_true", help="with --of: each shape and group as a channel of the EXR as well")
    matte.add_argument("--bits", type=int, choices=[8, 16], default=0, help="bits of a PNG or TIFF (default: 16)")
    matte.add_argument("--range", dest="range_", metavar="FIRST-LAST", help="frames of a drawn matte (default: the shot's range)")
    matte.add_argument("--out", required=True, metavar="PATTERN", help="such as mattes/passer.####.png")
    matte.add_argument("--quiet", action="store_true", help="no progress")

    export = commands.add_parser("export", help="export a corner pin, a mesh or a matte's shapes in open formats")
    export.add_argument("shot", help="a .wertis file")
    export.add_argument("--track", metavar="NAME", help="name of the track (default: the only one)")
    export.add_argument("--of", metavar="NAME", help="with --what shapes: name of the matte")
    export.add_argument("--placement", metavar="NAME", help="name of the placement (default: the track's first, or its region)")
    export.add_argument("--out", required=True, metavar="FILE",
                        help="file to write: a corner pin as .csv or .json; a mesh as .csv, .json, .obj (#### is the frame), .usd or .glb; "
                             "shapes as .json, .csv or .svg (with #### a file a frame, else one that is animated)")
    export.add_argument("--samples", type=int, default=0, metavar="N", help="with --what shapes: N points evenly along each outline, not its own")
    export.add_argument("--what", default="pin", choices=["pin", "mesh", "shapes", "corners", "inverse-corners", "matrices", "transforms", "points", "map",
                                                          "inverse-map", "vectors", "camera", "straight-map", "lens-map", "everything"],
                        help="a corner pin (default), the vertices of a mesh, a matte's shapes; or in the receiver's own coordinates: corners, the "
                        "steadying pin, 3x3 matrices, transforms, points (.json, .csv, points also .txt), coordinate maps and motion vectors (.exr); "
                        "the solved camera (.json, .usd, .glb), maps that take its lens out and put it back (.exr); or everything of the shot (.json)")
    export.add_argument("--workers", type=int, default=1, metavar="N", help="processes that make coordinate maps (default: 1)")
    add_cluster(export, chunks=True)
    _add_layout(export)
    export.add_argument("--reference", type=int, metavar="FRAME", help="frame that everything is relative to (default: the region's)")
    export.add_argument("--relative", action="store_true", help="corners, points and a transform's anchor relative to that frame")
    export.add_argument("--range", dest="range_", metavar="FIRST-LAST", help="frames that go out (default: the shot's range)")
    export.add_argument("--unrepaired", action="store_true", help="as it was tracked, without repairs")

    proof = commands.add_parser("prove", help="export a graphic's motion or a matte's shapes, let the receiver's stand-in rebuild frames, and compare")
    proof.add_argument("shot", help="a .wertis file")
    proof.add_argument("--track", metavar="NAME", help="name of the track (default: the only one)")
    proof.add_argument("--placement", metavar="NAME", help="name of the placement (default: the track's first)")
    proof.add_argument("--what", choices=["corners", "matrices", "points", "mesh", "shapes", "camera"], default="corners", help="what goes out")
    proof.add_argument("--of", metavar="NAME", help="with --what shapes: name of the matte")
    proof.add_argument("--format", choices=["json", "csv", "svg", "usd", "glb", "gltf", "obj"], default="json", help="as which file")
    proof.add_argument("--frames", metavar="A,B", help="frames that are rebuilt (default: the first, the middle, the last)")
    proof.add_argument("--believed", metavar="A,B", help="what the receiver takes otherwise than the file says: up, down, half, zero, pixels, unit")
    _add_layout(proof)

    taken = commands.add_parser("import", help="add a track whose motion was made elsewhere, or a camera: motion files, tables, meshes, maps")
    taken.add_argument("shot", help="a .wertis file")
    taken.add_argument("file", help="the motion: .json, .csv, .txt, .usd, .glb, or a sequence of .obj or of coordinate maps (.exr; #### is the frame)")
    taken.add_argument("--of", metavar="MATTE", help="the file holds shapes (.json, .csv, .svg): add them to this matte, which is made if there is none")
    taken.add_argument("--track", metavar="NAME", help="with --of: the track that carries the matte if it is made")
    taken.add_argument("--scaled", action="store_true", help="scale motion of a picture of another size to the plate's")
    taken.add_argument("--retime", action="store_true", help="bring motion made at another frame rate to the plate's")
    taken.add_argument("--folder", metavar="DIR", help="where coordinate maps are kept as dense motion (default: the user's cache)")
    taken.add_argument("--name", help="of the track")
    taken.add_argument("--columns", metavar="A,B,...", help="of a table with names of its own: the frame's column, then x1,y1 to x4,y4 (top left, "
                       "top right, bottom right, bottom left), or the nine of a matrix row by row")
    taken.add_argument("--out", metavar="FILE.wertis", help="save the shot here (default: in place)")
    _add_layout(taken)

    desktop = commands.add_parser("desktop", help="put Wertis among your applications: entry, icon, file type, man page, shell completion")
    desktop.add_argument("--remove", action="store_true", help="take it all away again")

    run = commands.add_parser("run", help="do a list of work on many shots, unattended, and write a report")
    run.add_argument("list", help="a TOML or JSON file that says what to do with which shots; see docs/formats.md")
    run.add_argument("--workers", type=int, metavar="N", help="shots at a time (default: as many as help and fit into memory)")
    run.add_argument("--memory", type=int, metavar="MB", help="that they may take together (default: three quarters of what is free)")
    add_cluster(run)
    run.add_argument("--again", action="store_true", help="try shots that failed again, even if nothing has changed")
    run.add_argument("--only", metavar="NAME", help="only this shot, in this process")

    cuts = commands.add_parser("cuts", help="find the frames at which another shot begins in a plate")
    cuts.add_argument("plate", help="a folder of frames, a sequence pattern or a movie")
    cuts.add_argument("--no-cut", metavar="FRAME,FRAME", help="frames at which no other shot begins, however it looks")
    cuts.add_argument("--quiet", action="store_true", help="no progress")
    return parser


def _add_saved(parser: argparse.ArgumentParser) -> None:
    """Where a shot that was changed is saved, and whether progress is told."""
    parser.add_argument("--out", metavar="FILE.wertis", help="save the shot here (default: in place)")
    parser.add_argument("--quiet", action="store_true", help="no progress")


def _add_layout(parser: argparse.ArgumentParser) -> None:
    """Options of the coordinates that motion is written in."""
    parser.add_argument("--receiver", metavar="NAME", help="coordinates of a receiver that was kept under a name in the step Deliver, or a file of it; "
                        "what is said beside it comes first")
    parser.add_argument("--y", choices=["down", "up"], help="which way y grows (default: down)")
    parser.add_argument("--centre", choices=["half", "zero"], help="the first pixel's centre: 0.5,0.5 (default) or 0,0")
    parser.add_argument("--units", choices=["pixels", "unit"], help="pixels (default), or shares of the picture")
    parser.add_argument("--size", metavar="WxH", help="the receiver's picture (default: the plate's)")
    parser.add_argument("--first", type=int, metavar="N", help="number of the range's first frame (default: the plate's)")


def main(arguments: Sequence[str] | None = None) -> int:
    """Run the command line; returns the exit code."""
    parser = build_parser()
    a = parser.parse_args(arguments)
    if a.command is None:
        parser.print_help()
        return EXIT_USAGE
    try:
        log.begin(a.verbose)
        module, function = COMMANDS[a.command]
        return int(getattr(import_module(module), function)(a))
    except WertisError as why:
        print(f"wertis: {why}", file=sys.stderr)
        return EXIT_ERROR
    except MemoryError:
        print("wertis: there is not enough memory; close other programs, or take a smaller range.", file=sys.stderr)
        return EXIT_ERROR
    except Exception as why:
        logging.getLogger("wertis.cli").exception("%s failed", a.command)
        print(f"wertis: {a.command} failed ({type(why).__name__}: {why}); what was finished is kept. {log.file()} has the details.", file=sys.stderr)
        return EXIT_ERROR
    except KeyboardInterrupt:
        print("wertis: stopped; what was finished is kept.", file=sys.stderr)
        return EXIT_STOPPED


if __name__ == "__main__":
    sys.exit(main())
