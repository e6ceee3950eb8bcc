"""Starting the application: fonts, theme, speaker, session, window, and what a crash left."""

import logging
import os
import signal
import sys
from collections.abc import Sequence
from pathlib import Path

from platformdirs import user_data_path
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication

from cloudrift.audio.files import forget_parts, remove_old_parts
from cloudrift.desktop.frame.mishaps import Mishaps, log_to_file
from cloudrift.desktop.frame.rail import STAGES
from cloudrift.desktop.frame.rooms import FURNISH_MS
from cloudrift.desktop.frame.window import Window
from cloudrift.desktop.kit import look
from cloudrift.desktop.kit.asking import ask
from cloudrift.desktop.session.preferences import Preferences
from cloudrift.desktop.session.session import Session
from cloudrift.devices import open_speaker
from cloudrift.ground.errors import in_a_sentence
from cloudrift.ground.memory import keep_memory_tidy
from cloudrift.loop.files import recovery
from cloudrift.loop.files.recovery import Shelter
from cloudrift.loop.model.document import Document
from cloudrift.render.play.player import SWITCH_INTERVAL_S
from cloudrift.style import house_cards, sketch


def make_app(theme: str = "") -> QApplication:
    """Return the application in a theme; without one, Nightfall where the desktop is dark."""
    app = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(app, QApplication)
    app.setApplicationName("Cloudrift")
    app.setDesktopFileName("cloudrift")
    app.setStyle("Fusion")
    look.load_fonts()
    look.apply(app, look.theme_of(app, theme))
    return app


def run(
    opened: tuple[Document, Path] | None,
    *,
    shelter: Shelter | None = None,
    play: bool = False,
    renewed: Sequence[str] = (),
) -> int:
    """Open the window, with a loop or on the start page, and stay until it is closed.

    The recordings of a loop lie in the ``shelter``'s store; ``renewed`` names its layers that play
    a newer design of their sound than the file says.
    """
    sys.setswitchinterval(SWITCH_INTERVAL_S)
    keep_memory_tidy()
    log_to_file()
    preferences = Preferences()
    wishes = preferences.now
    if wishes.size_percent != 100:  # before there is an application: Qt looks only once
        os.environ.setdefault("QT_SCALE_FACTOR", f"{wishes.size_percent / 100:g}")
    app = make_app(wishes.theme)
    card = next(iter(house_cards().values()))
    document, path = opened or (Document.of(sketch(card)), None)
    speaker = open_speaker(document.loop.rate, wishes.speaker, wishes.buffer_ms)
    session = Session(document, path, speaker, shelter=shelter, preferences=preferences)
    if path is not None:
        preferences.opened(path)
    with look.once_built(app):
        window = Window(session)
    mishaps = Mishaps(session.document.keep_unsaved, window)
    mishaps.said.connect(window.say)
    mishaps.install()
    screen = window.screen()
    if screen is not None:
        window.come_back(screen.availableGeometry())
    window.show()
    if opened is None:
        window.start_loop()
    else:
        window.show_stage(min(wishes.stage, len(STAGES) - 1))
    window.offer_steps(now=opened is not None)
    if session.transport.speaker.silent:
        window.say("No sound card was found: everything plays in time, silently.", good=True)
    for words in preferences.wrong[:1]:
        window.say(words)
    if opened is not None:
        window.files.say_what_is_other(*opened, renewed)
    if play:
        session.transport.set_playing(True)
    # From a terminal or at the end of a day: nobody is asked, and nothing is lost.
    for ends in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(ends, lambda *_: window.leave())
    # Python looks at signals only while it runs: a timer gives it a moment.
    heartbeat = QTimer()
    heartbeat.timeout.connect(lambda: None)
    heartbeat.start(300)
    QTimer.singleShot(0, lambda: offer_unsaved(window))
    for folder in (preferences.file.parent, *user_data_path("cloudrift").glob("*/")):
        remove_old_parts(folder)
    QTimer.singleShot(FURNISH_MS, window.furnish)
    code = app.exec()
    mishaps.remove()
    if not window.ended:
        end_now(code)
    return code


def end_now(code: int) -> None:
    """End the process although something still runs: it is only computing what nobody wants."""
    forget_parts()
    logging.shutdown()
    sys.stdout.flush()
    os._exit(code)


def offer_unsaved(window: Window) -> None:
    """Offer work that a crash left behind."""
    session, wrong = window.session, list[str]()
    left = recovery.left_behind(session.clips, session.document.shelter.folder, wrong.append)
    if wrong:
        window.say(f"Unsaved work was found that can't be read: {in_a_sentence(wrong[0], 200)}")
    for unsaved in left:
        where = f" (from {unsaved.origin})" if unsaved.origin else ""
        title = unsaved.document.loop.title
        words = f"{title}{where} was not saved when the program last ended. Open it?"
        chosen = ask(window, "Unsaved work", words, "Open it", "Discard it", "Ask me later")
        if chosen == "Open it":
            window.session.document.open(unsaved.document, unsaved.origin, unsaved=True)
            window.show_stage(0)
            # What the crash left goes only when it is kept again: it may be the only copy.
            if window.session.document.keep_unsaved():
                recovery.remove(unsaved.file)
            return
        if chosen == "Discard it":
            recovery.remove(unsaved.file)
