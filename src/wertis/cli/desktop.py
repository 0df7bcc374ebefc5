"""`wertis desktop`: puts Wertis among a person's applications, or takes it away again: entry, icon, file type, man page, shell completion."""

import argparse
import os
import shutil
import subprocess
import sys
from pathlib import Path

from wertis.cli.exits import EXIT_OK
from wertis.core.errors import WertisError

_ICON = Path(__file__).parents[1] / "app" / "icons" / "wertis.svg"
_ENTRY = """[Desktop Entry]
Type=Application
Name=Wertis
GenericName=Surface tracking
Comment=Track surfaces in a shot and make graphics stick to them
Exec={command} open %f
Icon=wertis
Terminal=false
Categories=AudioVideo;Video;Graphics;
MimeType=application/x-wertis;
StartupNotify=true
"""
_MIME = """<?xml version="1.0" encoding="UTF-8"?>
<mime-info xmlns="http://www.freedesktop.org/standards/shared-mime-info">
  <mime-type type="application/x-wertis">
    <comment>Wertis shot</comment>
    <sub-class-of type="application/zip"/>
    <glob pattern="*.wertis"/>
    <icon name="wertis"/>
  </mime-type>
</mime-info>
"""
_METAINFO = """<?xml version="1.0" encoding="UTF-8"?>
<component type="desktop-application">
  <id>wertis</id>
  <name>Wertis</name>
  <summary>Track surfaces in a shot and make graphics stick to them</summary>
  <metadata_license>CC0-1.0</metadata_license>
  <project_license>MIT</project_license>
  <description>
    <p>Planes, meshes, points and cameras are tracked through occlusions, checked and repaired; graphics, mattes and clean patches go with them, and motion
    is handed on in open formats.</p>
  </description>
  <launchable type="desktop-id">wertis.desktop</launchable>
  <provides><binary>wertis</binary><mediatype>application/x-wertis</mediatype></provides>
  <content_rating type="oars-1.1"/>
</component>
"""


def files(parser: argparse.ArgumentParser, root: Path, command: str) -> dict[Path, str]:
    """What is put in place, file to text.

    Parameters
    ----------
    root : the person's data folder (XDG_DATA_HOME).
    command : how Wertis is started.
    """
    import shtab

    return {root / "applications/wertis.desktop": _ENTRY.format(command=command),
            root / "mime/packages/wertis.xml": _MIME,
            root / "metainfo/wertis.metainfo.xml": _METAINFO,
            root / "icons/hicolor/scalable/apps/wertis.svg": _ICON.read_text(),
            root / "man/man1/wertis.1": man_page(parser),
            root / "bash-completion/completions/wertis": shtab.complete(parser, "bash"),
            root / "zsh/site-functions/_wertis": shtab.complete(parser, "zsh")}


def run_desktop(a: argparse.Namespace) -> int:
    """Put everything in place, or take it away."""
    from wertis.cli.main import build_parser

    root = Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local/share")
    command = shutil.which("wertis") or f"{sys.executable} -m wertis.cli.main"
    wanted = files(build_parser(), root, command)
    for path, text in wanted.items():
        try:
            if a.remove:
                path.unlink(missing_ok=True)
            else:
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_text(text)
        except OSError as why:
            raise WertisError(f"{path} could not be {'removed' if a.remove else 'written'} ({why.strerror}); nothing else is affected.") from why
        print(f"{'removed' if a.remove else 'put in place'}: {path}")
    for tool, *rest in (("update-desktop-database", str(root / "applications")), ("update-mime-database", str(root / "mime"))):
        if shutil.which(tool):  # desktops that have it see the change at once; others at the next login
            subprocess.run([tool, *rest], check=False, capture_output=True)
    return EXIT_OK


def man_page(parser: argparse.ArgumentParser) -> str:
    """The manual in man(7) macros, from the commands' own help."""
    out = ['.TH WERTIS 1 "" "Wertis" "Commands"', ".SH NAME", "wertis \\- " + _plain(parser.description or ""), ".SH SYNOPSIS", ".B wertis", "COMMAND ..."]
    out += [".SH DESCRIPTION", _plain(parser.epilog or ""), ".SH COMMANDS"]
    commands = next(x for x in parser._actions if isinstance(x, argparse._SubParsersAction))
    told = {choice.dest: choice.help or "" for choice in commands._choices_actions}
    for name, sub in commands.choices.items():
        out += [f".SS {name}", _plain(told.get(name, "")), ".PP", f".B {_plain(' '.join(sub.format_usage().split()[1:]))}"]
        for option in sub._actions:
            if option.dest != "help":
                value = " " + _plain(str(option.metavar or option.dest.upper())) if option.option_strings and option.nargs != 0 else ""
                out += [".TP", f".B {_plain(', '.join(option.option_strings) or option.dest)}{value}", _plain(option.help or "")]
    return "\n".join(out) + "\n"


def _plain(text: str) -> str:
    """A text in which nothing is a macro."""
    escaped = text.replace("%%", "%").replace("\\", "\\\\").replace("-", "\\-")
    return "\\&" + escaped if escaped[:1] in (".", "'") else escaped
