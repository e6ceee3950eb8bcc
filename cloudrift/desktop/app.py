"""Starting the application: fonts, theme, speaker, session, window, and what a crash left."""

import signal
import sys
from pathlib import Path

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication, QMessageBox

from cloudrift.desktop import look
from cloudrift.desktop.mishaps import Mishaps, log_to_file
from cloudrift.desktop.session import Session
from cloudrift.desktop.window import Window
from cloudrift.devices import open_speaker
from cloudrift.ground.memory import keep_memory_tidy
from cloudrift.loop import recovery
from cloudrift.loop.model import Loop
from cloudrift.render.player import SWITCH_INTERVAL_S
from cloudrift.style import house_cards, sketch


def make_app() -> QApplication:
    """Return the application in its theme: Nightfall where the desktop is dark."""
    app = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(app, QApplication)
    app.setApplicationName("Cloudrift")
    app.setDesktopFileName("cloudrift")
    app.setStyle("Fusion")
    look.load_fonts()
    hints = app.styleHints()
    dark = hints is not None and hints.colorScheme().name == "Dark"
    look.apply(app, "Nightfall" if dark else "Daybreak")
    return app


def run(opened: tuple[Loop, Path] | None, *, play: bool = False) -> int:
    """Open the window, with a loop or on the start page, and stay until it is closed."""
    sys.setswitchinterval(SWITCH_INTERVAL_S)
    keep_memory_tidy()
    app = make_app()
    loop, path = opened or (sketch(next(iter(house_cards().values()))), None)
    session = Session(loop, path, open_speaker(loop.rate))
    window = Window(session)
    log_to_file()
    mishaps = Mishaps(session.keep_unsaved, window)
    mishaps.said.connect(window.say)
    mishaps.install()
    window.show()
    if opened is None:
        window.start_loop()
    if session.speaker.silent:
        window.say("No sound card was found: everything plays in time, but silently.", good=True)
    if play:
        session.set_playing(True)
    signal.signal(signal.SIGINT, lambda *_: window.close())
    # Python looks at signals only while it runs: a timer gives it a moment.
    heartbeat = QTimer()
    heartbeat.timeout.connect(lambda: None)
    heartbeat.start(300)
    QTimer.singleShot(0, lambda: offer_unsaved(window))
    code = app.exec()
    mishaps.remove()
    return code


def offer_unsaved(window: Window) -> None:
    """Offer work that a crash left behind."""
    for unsaved in recovery.left_behind():
        box = QMessageBox(window)
        box.setWindowTitle("Work that was not saved")
        where = f" (from {unsaved.origin})" if unsaved.origin else ""
        box.setText(
            f"{unsaved.loop.title}{where} was not saved when the program last ended. Open it?"
        )
        yes = box.addButton("Open it", QMessageBox.ButtonRole.AcceptRole)
        no = box.addButton("Throw it away", QMessageBox.ButtonRole.DestructiveRole)
        box.addButton("Ask me later", QMessageBox.ButtonRole.RejectRole)
        box.exec()
        if box.clickedButton() is yes:
            window.session.open(unsaved.loop, unsaved.origin, unsaved=True)
            window.show_stage(0)
            window.session.keep_unsaved()
            unsaved.file.unlink(missing_ok=True)
            return
        if box.clickedButton() is no:
            unsaved.file.unlink(missing_ok=True)
