"""Preferences, keys that can be changed, shots opened lately, the guide, and what ships."""

import unittest
from unittest.mock import patch

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeySequence
from PySide6.QtWidgets import QDialogButtonBox

from tests.test_window import WindowCase
from wertis.app import preferences
from wertis.app.dialogs import AboutDialog, KeysDialog, PreferencesDialog
from wertis.app.preferences import Preferences
from wertis.app.window import MainWindow


class PreferencesTest(WindowCase):
    def setUp(self) -> None:
        super().setUp()
        self.addCleanup(lambda: preferences.file().unlink(missing_ok=True))

    def test_kept_and_read_again_and_damaged_ones_do_no_harm(self) -> None:
        preferences.save(Preferences(memory=777, keys={"Go: Reference frame": "Ctrl+J"}))
        self.assertEqual(preferences.load().memory, 777)
        preferences.file().write_text('{"memory": -5')
        self.assertEqual(preferences.load(), Preferences())
        preferences.file().write_text('{"memory": 12, "unknown": 1}')
        self.assertEqual(preferences.load().memory, Preferences().memory)

    def test_a_key_is_changed_used_and_remembered(self) -> None:
        w = self.window
        self.open_plate()
        dialog = KeysDialog({ident: (w.menus.names[ident], *entry) for ident, entry in w.menus.actions.items()}, w)
        self.assertGreater(len(dialog.edits), 40)
        ok = dialog.box.button(QDialogButtonBox.StandardButton.Ok)
        dialog.edits["go.reference"].setKeySequence(QKeySequence("T"))
        self.assertFalse(ok.isEnabled())
        self.assertIn("T is the key of both", dialog.trouble.text())
        dialog.edits["go.reference"].setKeySequence(QKeySequence("Ctrl+J"))
        self.assertTrue(ok.isEnabled())
        with patch("wertis.app.user_settings.KeysDialog", lambda *_: dialog), patch.object(dialog, "exec", lambda: 1):
            w.change_keys()
        self.assertEqual(preferences.load().keys, {"go.reference": "Ctrl+J"})
        other = MainWindow()
        self.assertEqual(other.menus.actions["go.reference"][0].shortcut().toString(), "Ctrl+J")
        self.gone(other)
        dialog._filter("worst")
        shown = [name for row, name in enumerate(dialog.edits) if not dialog.table.isRowHidden(row)]
        self.assertEqual(shown, ["go.next-worst"])
        dialog._usual()
        self.assertEqual(dialog.chosen(), {})

    def test_no_two_actions_share_a_key(self) -> None:
        keys = [usual for _, usual in self.window.menus.actions.values() if usual]
        self.assertEqual(sorted(keys), sorted(set(keys)))

    def test_what_was_opened_lately_is_offered(self) -> None:
        w = self.window
        w.open_path(self.plate)
        w.settings.fill_recent(w.recent_menu, w.open_path)
        first = w.recent_menu.actions()[0]
        self.assertIn(self.plate.name, first.text())
        first.trigger()
        self.assertEqual(w.session.plate.path if w.session.plate else None, self.plate)

    def test_memory_counts_from_the_next_start(self) -> None:
        w = self.window
        with patch.object(PreferencesDialog, "exec", lambda dialog: dialog.memory.setValue(1024) or 1):
            w.settings.change_preferences()
        other = MainWindow()
        self.assertEqual(other.session.budget, 1024 << 20)
        self.gone(other)

    def test_guide_and_about(self) -> None:
        w = self.window
        w.setFocus()
        w.show_guide()
        text = w.guide.text.toPlainText()
        for step in ("Plate", "Region", "Track", "Check", "Repair", "Use", "Deliver"):
            self.assertIn(step, text)
        w.guide.close()
        about = AboutDialog(w)
        rows = [[about.table.item(r, c).text() for c in range(3)] for r in range(about.table.rowCount())]  # type: ignore[union-attr]
        for name, version, licence in rows[:-1]:
            self.assertTrue(version[:1].isdigit(), name)
            self.assertTrue(licence, f"{name} has no licence")
        self.assertLessEqual({"numpy", "pycolmap", "PySide6-Essentials"}, {name for name, *_ in rows})
        self.assertNotIn("mypy", {name for name, *_ in rows})
        self.assertEqual(about.windowFlags() & Qt.WindowType.Dialog, Qt.WindowType.Dialog)


if __name__ == "__main__":
    unittest.main()
