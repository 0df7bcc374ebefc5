"""Starting the window: what must be there first, and what to say when it is not."""

import ctypes
import os
import sys

LIBRARIES = {"libEGL.so.1": "libegl1", "libGL.so.1": "libgl1", "libxkbcommon.so.0": "libxkbcommon0", "libfontconfig.so.1": "libfontconfig1",
             "libglib-2.0.so.0": "libglib2.0-0", "libdbus-1.so.3": "libdbus-1-3"}
SCREEN_LIBRARIES = {"libxcb-cursor.so.0": "libxcb-cursor0", "libxkbcommon-x11.so.0": "libxkbcommon-x11-0", "libxcb-icccm.so.4": "libxcb-icccm4",
                    "libxcb-image.so.0": "libxcb-image0", "libxcb-keysyms.so.1": "libxcb-keysyms1",
                    "libxcb-render-util.so.0": "libxcb-render-util0", "libxcb-shape.so.0": "libxcb-shape0", "libxcb-xkb.so.1": "libxcb-xkb1"}


def missing_packages() -> list[str]:
    """Debian's packages of the system libraries that Qt needs here and does not find."""
    wanted = LIBRARIES if _off_screen() or _wayland() else LIBRARIES | SCREEN_LIBRARIES
    return [package for library, package in wanted.items() if not _loads(library)]


def trouble() -> str:
    """Why the window cannot open, and what to do; empty when it can."""
    if not _off_screen() and not os.environ.get("DISPLAY") and not _wayland():
        return ("There is no display. Start Wertis from a desktop session, or on a machine without a screen under a virtual one: "
                "xvfb-run -s '-screen 0 1280x800x24' wertis demo. Tracking, rendering and exporting need no display: wertis --help.")
    missing = missing_packages()
    if missing:
        return f"System libraries that Qt needs are missing. On Debian or Ubuntu: sudo apt-get install {' '.join(missing)}"
    return ""


def run(path: str = "", demo: bool = False) -> int:
    """Open the window; returns the exit code."""
    why = trouble()
    if why:
        print(f"wertis: {why}", file=sys.stderr)
        return 1
    from pathlib import Path

    from PySide6.QtCore import QTimer
    from PySide6.QtWidgets import QApplication

    from wertis.app.theme import apply_theme
    from wertis.app.window import MainWindow
    from wertis.core import log
    from wertis.core.blas import single_threaded

    log.begin()
    application = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(application, QApplication)
    application.setApplicationName("Wertis")
    apply_theme(application)
    window = MainWindow()
    window.show()
    if demo:
        window.demo.open()
    elif path:
        window.open_path(Path(path))
    QTimer.singleShot(0, window.offer_lost)
    with single_threaded():  # the picture's, the meshes' and the tools' small matrices too
        code = application.exec()
    sys.stdout.flush()
    sys.stderr.flush()
    # the window has saved and stopped what it had to; waiting for reading threads to be taken down would only hold the person up
    os._exit(code)


def _off_screen() -> bool:
    return os.environ.get("QT_QPA_PLATFORM", "").startswith(("offscreen", "minimal"))


def _wayland() -> bool:
    return bool(os.environ.get("WAYLAND_DISPLAY")) or os.environ.get("QT_QPA_PLATFORM", "").startswith("wayland")


def _loads(library: str) -> bool:
    try:
        ctypes.CDLL(library)
    except OSError:
        return False
    return True
