"""The `wertis` command. Each command imports what it needs when it runs, so that short ones start quickly."""

import argparse
import logging
import sys
from collections.abc import Sequence
from importlib import import_module

from wertis import __version__
from wertis.cli.exits import EXIT_ERROR, EXIT_STOPPED, EXIT_USAGE
from wertis.core import log
from wertis.core.errors import WertisError

# command to the module and function that run it; each is imported when it is wanted
COMMANDS = {"track": ("wertis.cli.track", "run_track"), "check": ("wertis.cli.check", "run_check"), "repair": ("wertis.cli.repair", "run_repair"),
            "motion": ("wertis.cli.motion", "run_motion"), "render": ("wertis.cli.deliver", "run_render"), "matte": ("wertis.cli.deliver", "run_matte"),
            "export": ("wertis.cli.deliver", "run_export"), "cuts": ("wertis.cli.cuts", "run_cuts"), "solve": ("wertis.cli.solve", "run_solve"),
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
    track.add_argument("--holdout", action="append", default=[], metavar='"x,y x,y ..."|MATTE',
                       help="take pixels away: a polygon that stays in the picture, or a matte sequence (white is held out); several allowed")
    track.add_argument("--look", default="mix", choices=["mix", "luma", "red", "green", "blue", "contrast"],
                       help="what the tracker looks at: its channels, mixed for most detail over least grain (default), brightness, one channel, "
                            "or brightness with its contrast raised")
    track.add_argument("--layer", default="", metavar="NAME", help="layer of the plate's EXR files to look at (default: the picture itself)")
    track.add_argument("--half", action="store_true", help="track at half the resolution")
    track.add_argument("--range", dest="range_", metavar="FIRST-LAST", help="frames to track (default: the whole plate)")
    track.add_argument("--out", metavar="OUT.csv", help="file to write: frame,x1,y1,x2,y2,x3,y3,x4,y4; of a mesh frame,id,x,y of its points or vertices")
    track.add_argument("--keep", metavar="DIR", help="dense: folder in which the motion is kept, and found again; without it nothing is kept")
    track.add_argument("--save", metavar="SHOT.wertis", help="begin a shot with the track in it, to be opened, checked, repaired and rendered")
    track.add_argument("--name", default="Surface", metavar="NAME", help="name of the track in that shot")
    track.add_argument("--quiet", action="store_true", help="no progress")

    solve = commands.add_parser("solve", help="solve a plate's camera, and carry a rectangle of a flat part of the scene through the shot")
    solve.add_argument("plate", help="a folder of frames, a sequence pattern or a movie")
    solve.add_argument("--out", required=True, metavar="CAMERA.json",
                       help="file to write: focal length, error, a matrix for each frame, points; .json or .usd")
    solve.add_argument("--focal", type=float, metavar="PX", help="focal length in pixels, when it is known (default: solved)")
    solve.add_argument("--lens", action="store_true", help="solve for a radial term of the lens as well")
    solve.add_argument("--start", type=int, metavar="FRAME", help="frame on which the corners are given")
    solve.add_argument("--corners", metavar='"x,y x,y x,y x,y"', help="corners of a rectangle on a flat part of the scene")
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
    check.add_argument("--limit", type=float, metavar="PX", help="exit with code 4 when a frame drifts further than this")
    check.add_argument("--base", type=int, metavar="FRAME", help="the frame that counts as right (default: the reference frame)")
    check.add_argument("--range", dest="range_", metavar="FIRST-LAST", help="frames to measure (default: the shot's range)")
    check.add_argument("--quiet", action="store_true", help="no progress")

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
    motion.add_argument("--out", metavar="FILE.wertis", help="save the shot here (default: in place)")
    motion.add_argument("--quiet", action="store_true", help="no progress")

    render = commands.add_parser("render", help="render a shot to an image sequence or a movie")
    render.add_argument("shot", help="a .wertis file")
    render.add_argument("--out", required=True, metavar="PATTERN", help="such as out/comp.####.png, comp.%%04d.exr, comp.mp4 or comp.mkv")
    render.add_argument("--what", choices=["comp", "graphic"], default="comp", help="the comp, or the graphic alone with alpha")
    render.add_argument("--range", dest="range_", metavar="FIRST-LAST", help="frames to render (default: the shot's range)")
    render.add_argument("--resume", action="store_true", help="keep frames of a sequence that are there, and go on with the rest")
    render.add_argument("--quiet", action="store_true", help="no progress")

    matte = commands.add_parser("matte", help="write a drawn matte, or one of what passes in front of a tracked surface, as pictures")
    matte.add_argument("shot", help="a .wertis file")
    matte.add_argument("--track", metavar="NAME", help="name of the track that something passes in front of")
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
                        help="file to write: a corner pin as .csv or .json; a mesh as .csv, .json, .obj (#### is the frame) or .usd; "
                             "shapes as .json, .csv or .svg (with #### a file a frame, else one that is animated)")
    export.add_argument("--samples", type=int, default=0, metavar="N", help="with --what shapes: N points evenly along each outline, not its own")
    export.add_argument("--what", choices=["pin", "mesh", "shapes"], default="pin",
                        help="a corner pin (default), the vertices of a mesh, or a matte's shapes")

    cuts = commands.add_parser("cuts", help="find the frames at which another shot begins in a plate")
    cuts.add_argument("plate", help="a folder of frames, a sequence pattern or a movie")
    cuts.add_argument("--quiet", action="store_true", help="no progress")
    return parser


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
