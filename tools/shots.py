"""Refresh the pictures in docs/screenshots from the real window with the demo kit."""

import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

from msgspec.structs import replace
from PyQt6.QtWidgets import QApplication

from cloudrift.demo import KIT, polar_night, slow_meridian
from cloudrift.desktop.frame.app import make_app
from cloudrift.desktop.frame.window import Window
from cloudrift.desktop.kit import look
from cloudrift.desktop.session.hearing.hearing import BARE, TREATED
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.stages.deliver.stage import DEMO
from cloudrift.desktop.stages.deliver.stage import KIT as KIT_PAGE
from cloudrift.desktop.stages.microphone.taker import State
from cloudrift.devices import SilentSpeaker
from cloudrift.exchange import StandIn
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.flip import flipping, ordering
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.files.storage import save
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.history import History
from cloudrift.loop.model.loop import Loop
from cloudrift.sound import find_sound
from cloudrift.style import house_cards, sketch

FOLDER = Path(__file__).parent.parent / "docs" / "screenshots"
SETTLE_S = 0.8


def wait(app: QApplication, session: Session, seconds: float = SETTLE_S) -> None:
    """Let rendering and pictures finish."""
    end = time.monotonic() + seconds
    while time.monotonic() < end or session.hearing.busy:
        app.processEvents()
        time.sleep(0.01)


def main() -> None:
    """Open the demo, walk through the stages, take each one's picture."""
    app = make_app()
    look.apply(app, "Daybreak")
    loop = polar_night()
    session = Session(loop, Path(KIT) / "Polar Night II.cloudrift", SilentSpeaker(loop.rate))
    window = Window(session)
    window.resize(1280, 800)
    window.show()
    while not {TREATED, BARE} <= set(session.hearing.loudness):
        wait(app, session, 0.1)
    session.transport.set_playing(True)
    session.player.seek(0.31)
    FOLDER.mkdir(parents=True, exist_ok=True)

    def shot(name: str) -> None:
        wait(app, session)
        window.grab().save(str(FOLDER / f"{name}.png"))

    session.select(chord_id=loop.chords[3].id, voice=3)
    shot("chords")
    window.open_keys()
    shot("play-keys")
    window.keys.close_drawer()
    window.show_stage(1)
    session.select(layer_id="l3")
    wait(app, session, 2)
    shot("layers")
    session.select(layer_id="l2")
    window.open_shelf()
    window.shelf.hear(find_sound("choir pad"))
    wait(app, session, 2)
    shot("shelf")
    window.shelf.close_drawer()
    window.open_recordings()
    while not window.recordings.found:
        wait(app, session, 0.1)
    window.recordings.search.setText("voice")
    wait(app, session, 2)
    window.recordings.list.setCurrentItem(window.recordings.list.topLevelItem(2))
    shot("recordings")
    phrase = StandIn(moods=None).fetch("ferry-choir", lambda: False, lambda _share, _words: None)
    count = len(session.loop.layers)
    window.recordings.close_drawer()
    window.layers.bring_recordings([phrase])
    while len(session.loop.layers) == count:
        wait(app, session, 0.1)
    wait(app, session, 2)
    shot("recording")
    window.message.hide()
    session.document.undo()
    window.open_microphone()
    drawer = window.microphone
    drawer.take.click()
    while drawer.taker.state is not State.TAKES:
        wait(app, session, 0.1)
    wait(app, session, 1.15 * loop.frames / loop.rate)
    drawer.take.click()
    while len(session.loop.layers) == count:
        wait(app, session, 0.1)
    wait(app, session, 2)
    shot("microphone")
    window.message.hide()
    drawer.close_drawer()
    session.document.undo()
    window.show_stage(2)
    session.select(line_of="l3", treatment_id=loop.line_of("l3")[1].id)
    wait(app, session, 2)
    shot("texture")
    window.texture.show_finishes()
    shot("finishes")
    window.texture.show_line()
    session.select(line_of=None, treatment_id=loop.line[1].id)
    look.apply(app, "Nightfall")
    wait(app, session, 2)
    shot("texture-nightfall")
    look.apply(app, "Daybreak")
    window.show_stage(3)
    window.flip.printing.print_what(())
    while not window.flip.flips():
        wait(app, session, 0.1)
    flip_it(window)
    wait(app, session, 3)
    window.message.hide()
    shot("flip")
    while window.flip.flips():
        session.document.undo()
    window.show_stage(5)
    deliver_it(window, partial(wait, app, session), shot)
    window.show_stage(1)
    window.open_bed()
    window.bed.manner.setCurrentText("half-time")
    window.bed.draw.click()
    wait(app, session, 2)
    window.bed.lanes.choose(1, frozenset({1}))
    shot("groove-bed")
    window.bed.close_drawer()
    arrange_it(window, partial(wait, app, session))
    shot("arrange")
    window.arrange.arranged.leave()
    while session.document.history.now.arrangement.sections:
        session.document.undo()
    while session.loop.bed and session.loop.bed.heard:
        session.document.undo()
    session.apply("a little quicker", lambda now: loop_edits.set_tempo(now, 160.0))
    session.apply("no roll", lambda now: layer_edits.set_touch(now, "l1", roll_ms=0))
    session.apply("wide", lambda now: layer_edits.set_layer(now, "l3", pan=0.8))
    window.open_style()
    wait(app, session, 2)
    shot("style")
    for _ in range(3):
        session.document.undo()
    window.show_stage(0)
    window.start_loop()
    window.start.choose_card("Marlow Quist")
    wait(app, session, 2)
    shot("start")
    window.start.choose_source(1)
    shot("start-from-nothing")
    window.start.leave()
    session.transport.set_playing(False)
    session.document.history = History.of(session.loop)  # nobody is there to be asked to save
    session.document.begun = False
    window.close()


def deliver_it(
    window: Window, wait_for: Callable[[float], object], shot: Callable[[str], object]
) -> None:
    """Name who made it, draw a demo file, look at the kit; a picture of each page."""
    deliver = window.deliver
    deliver.rights.add.click()
    deliver.rights.people[0].name.setText("Ada Wren")
    deliver.rights.people[0].name.editingFinished.emit()
    wait_for(2)
    shot("deliver")
    deliver.show_page(DEMO)
    deliver.demo.order.click()
    wait_for(1)
    deliver.demo.heard.hear(1)
    while not deliver.demo.heard.on:
        wait_for(0.1)
    wait_for(1)
    shot("demo-file")
    deliver.demo.heard.leave()
    deliver.show_page(KIT_PAGE)
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder) / KIT
        home.mkdir()
        for at, one in enumerate((polar_night(), slow_meridian(), *sketches())):
            save(Document(loop=one), home / f"{at}.cloudrift")
        deliver.kit.take(home)
        while len(deliver.kit.looked) < len(list(home.glob("*.cloudrift"))):
            wait_for(0.2)
        deliver.kit.folder.setText(KIT)
        wait_for(2)
        shot("kit")
    deliver.show_page(0)


def sketches() -> list[Loop]:
    """More loops for the kit."""
    cards = house_cards()
    return [
        replace(sketch(cards[card], draw=draw, bars=8, title=title), kit=KIT)
        for card, draw, title in (
            ("Edda Fenn", 3, "Harbour Lights Out"), ("Piet Harrow", 5, "Ice Road"),
            ("Sunniva Roe", 2, "Last Ferry North"), ("Lio Castellan", 4, "Harbour Lights Out II"),
        )
    ]  # fmt: skip


def flip_it(window: Window) -> None:
    """Lay a print out as somebody would: some chords turned round, some struck again."""
    flip = window.flip
    flip.cuts.button("even").click()
    flip.edit("in order", partial(ordering.backward_in_order, first=7680, last=23040))
    flip.edit("lay out", lambda now: flipping.swap(flipping.stutter(now, 13, 4), 2, 11))
    flip.edit("an octave up", lambda now: flipping.set_place(now, 14, semitones=12.0))
    flip.threads.choose(5)


def arrange_it(window: Window, wait_s: Callable[[float], object]) -> None:
    """Draw a form, let something happen at a change, copy a hook and change it; all is heard."""
    stage = window.arrange
    window.show_stage(4)
    stage.form.setCurrentText("intro from the verse")
    stage.draw.click()
    stage.columns.choose_seam(1)
    stage.seam.fields["riser_bars"].edited.emit(2.0)
    stage.seam.fields["silence_beats"].edited.emit(2.0)
    stage.sum.what.edited.emit("drive, then limit")
    stage.hear("all")
    while stage.arranged.busy or stage.arranged.sum_loudness is None:
        wait_s(0.1)
    stage.columns.choose(len(stage.columns.model.sections) - 1 if stage.columns.model else 0)
    wait_s(2)


if __name__ == "__main__":
    main()
