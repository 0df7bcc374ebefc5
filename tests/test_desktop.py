"""Wertis among a person's applications: what is put in place by one command is sound, and taken away by another."""

import io
import os
import shutil
import subprocess
import tempfile
import unittest
import xml.etree.ElementTree as ET
from configparser import ConfigParser
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path
from unittest import mock

from wertis.cli import window
from wertis.cli.desktop import man_page
from wertis.cli.main import COMMANDS, build_parser, main


class DesktopTest(unittest.TestCase):
    def setUp(self) -> None:
        self.root = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.root)
        patched = mock.patch.dict(os.environ, XDG_DATA_HOME=str(self.root))
        patched.start()
        self.addCleanup(patched.stop)

    def test_it_is_put_in_place_and_taken_away(self) -> None:
        with redirect_stdout(io.StringIO()) as said:
            self.assertEqual(main(["desktop"]), 0)
        there = [Path(line.split(": ", 1)[1]) for line in said.getvalue().splitlines()]
        self.assertEqual(len(there), 7)
        # Desktop Entry Specification 1.5: required keys, and MimeType with a trailing semicolon
        entry = ConfigParser(interpolation=None)
        entry.read(self.root / "applications/wertis.desktop")
        body = entry["Desktop Entry"]
        self.assertEqual((body["Type"], body["Name"], body["MimeType"]), ("Application", "Wertis", "application/x-wertis;"))
        self.assertTrue(body["Exec"].endswith("open %f"))
        # shared-mime-info 2.4: the namespace and the glob
        mime = ET.parse(self.root / "mime/packages/wertis.xml").getroot()
        space = "{http://www.freedesktop.org/standards/shared-mime-info}"
        self.assertEqual(mime.find(f"{space}mime-type/{space}glob").get("pattern"), "*.wertis")
        # AppStream 1.0: id, name, summary, licences, launchable
        info = ET.parse(self.root / "metainfo/wertis.metainfo.xml").getroot()
        self.assertEqual(info.get("type"), "desktop-application")
        for tag in ("id", "name", "summary", "metadata_license", "project_license", "description", "launchable"):
            self.assertIsNotNone(info.find(tag), tag)
        self.assertEqual(ET.parse(self.root / "icons/hicolor/scalable/apps/wertis.svg").getroot().tag, "{http://www.w3.org/2000/svg}svg")
        subprocess.run(["bash", "-n", str(self.root / "bash-completion/completions/wertis")], check=True)
        with redirect_stdout(io.StringIO()):
            self.assertEqual(main(["desktop", "--remove"]), 0)
        self.assertEqual([p for p in there if p.exists()], [])

    def test_the_manual_has_every_command_and_no_stray_macros(self) -> None:
        page = man_page(build_parser())
        for name in COMMANDS:
            self.assertIn(f".SS {name}\n", page)
        macros = {line.split()[0] for line in page.splitlines() if line.startswith(".")}
        self.assertLessEqual(macros, {".TH", ".SH", ".SS", ".B", ".TP", ".PP"})

    def test_without_the_window_the_rest_says_how_to_get_it(self) -> None:
        with mock.patch.object(window, "find_spec", return_value=None), redirect_stderr(io.StringIO()) as complaint:
            self.assertEqual(main(["open"]), 1)
        self.assertIn("pip install 'wertis[window]'", complaint.getvalue())


if __name__ == "__main__":
    unittest.main()
