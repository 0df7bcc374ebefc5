"""The `wertis` command. Each command imports what it needs when it runs, so that short ones start quickly."""

import argparse
import sys
from collections.abc import Sequence

from wertis import __version__
from wertis.core.errors import WertisError

EXIT_OK, EXIT_ERROR, EXIT_USAGE, EXIT_PARTLY, EXIT_OVER, EXIT_STOPPED = 0, 1, 2, 3, 4, 130


def build_parser() -> argparse.ArgumentParser:
    """The whole command line."""
    parser = argparse.ArgumentParser(
        prog="wertis", description="Track surfaces in a shot and make graphics stick to them.",
        epilog="Coordinates are in pixels, y down, first pixel's centre at 0.5,0.5. Exit codes: 0 done, 1 error, 2 wrong usage, "
               "3 nothing was found, 4 over the limit given, 130 stopped.")
    parser.add_argument("--version", action="version", version=f"Wertis {__version__}")
    commands = parser.add_subparsers(dest="command", metavar="COMMAND")

    demo = commands.add_parser("demo", help="open the window with the demo shots (made on first start)")
    demo.add_argument("--make-only", action="store_true", help="make the demo shots and print where they are; open no window")

    show = commands.add_parser("open", help="open a shot file, a folder of frames or a movie in the window")
    show.add_argument("shot", nargs="?", help="a .wertis file, a folder, a sequence pattern or a movie")

    track = commands.add_parser("track", help="track a plane through a plate and write its corners as CSV")
    track.add_argument("plate", help="a folder of frames, a sequence pattern (name.%%04d.png, name.####.png) or a movie")
    track.add_argument("--start", type=int, required=True, metavar="FRAME", help="frame on which region and corners are given")
    track.add_argument("--region", required=True, metavar='"x,y x,y ..."', help="outline of the surface on the start frame")
    track.add_argument("--corners", metavar='"x,y x,y x,y x,y"', help="four points to follow (default: the region, when it has four)")
    track.add_argument("--model", default="perspective", metavar="KIND",
                       help="shift, shift-scale, shift-turn, similarity (shift, scale, turn), affine (with shear) or perspective (default)")
    track.add_argument("--holdout", action="append", default=[], metavar='"x,y x,y ..."|MATTE',
                       help="take pixels away: a polygon that stays in the picture, or a matte sequence (white is held out); several allowed")
    track.add_argument("--look", default="mix", choices=["mix", "luma", "red", "green", "blue", "contrast"],
                       help="what the tracker looks at: its channels, mixed for most detail over least grain (default), brightness, one channel, "
                            "or brightness with its contrast raised")
    track.add_argument("--layer", default="", metavar="NAME", help="layer of the plate's EXR files to look at (default: the picture itself)")
    track.add_argument("--half", action="store_true", help="track at half the resolution")
    track.add_argument("--range", dest="range_", metavar="FIRST-LAST", help="frames to track (default: the whole plate)")
    track.add_argument("--out", required=True, metavar="OUT.csv", help="file to write: frame,x1,y1,x2,y2,x3,y3,x4,y4")
    track.add_argument("--quiet", action="store_true", help="no progress")

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

    matte = commands.add_parser("matte", help="write a matte sequence of what passes in front of a tracked surface")
    matte.add_argument("shot", help="a .wertis file")
    matte.add_argument("--track", required=True, metavar="NAME", help="name of the track")
    matte.add_argument("--out", required=True, metavar="PATTERN", help="such as mattes/passer.####.png")
    matte.add_argument("--quiet", action="store_true", help="no progress")

    export = commands.add_parser("export", help="export a corner pin as CSV or JSON")
    export.add_argument("shot", help="a .wertis file")
    export.add_argument("--track", required=True, metavar="NAME", help="name of the track")
    export.add_argument("--placement", metavar="NAME", help="name of the placement (default: the track's first, or its region)")
    export.add_argument("--out", required=True, metavar="FILE", help="corner pin file to write, .csv or .json")
    return parser


def main(arguments: Sequence[str] | None = None) -> int:
    """Run the command line; returns the exit code."""
    parser = build_parser()
    a = parser.parse_args(arguments)
    if a.command is None:
        parser.print_help()
        return EXIT_USAGE
    try:
        if a.command == "track":
            from wertis.cli.track import run_track
            return run_track(a)
        if a.command == "check":
            from wertis.cli.check import run_check
            return run_check(a)
        if a.command == "repair":
            from wertis.cli.repair import run_repair
            return run_repair(a)
        if a.command == "motion":
            from wertis.cli.motion import run_motion
            return run_motion(a)
        if a.command == "render":
            from wertis.cli.deliver import run_render
            return run_render(a)
        if a.command == "matte":
            from wertis.cli.deliver import run_matte
            return run_matte(a)
        if a.command == "export":
            from wertis.cli.deliver import run_export
            return run_export(a)
        from wertis.cli.window import run_demo, run_open
        return run_demo(a) if a.command == "demo" else run_open(a)
    except WertisError as why:
        print(f"wertis: {why}", file=sys.stderr)
        return EXIT_ERROR
    except KeyboardInterrupt:
        print("wertis: stopped; what was finished is kept.", file=sys.stderr)
        return EXIT_STOPPED


if __name__ == "__main__":
    sys.exit(main())
