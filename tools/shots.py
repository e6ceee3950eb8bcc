"""Refresh the pictures in docs/screenshots from the real window with the demo kit."""

import os
import tempfile
import time
from pathlib import Path

from PyQt6.QtWidgets import QApplication, QWidget

from cloudrift.demo import unpack
from cloudrift.desktop.frame.app import make_app
from cloudrift.desktop.frame.rail import STAGES
from cloudrift.desktop.frame.window import Window
from cloudrift.desktop.kit import look
from cloudrift.desktop.session.hearing.hearing import BARE, TREATED
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.stages.deliver.stage import DEMO
from cloudrift.desktop.stages.deliver.stage import KIT as KIT_PAGE
from cloudrift.desktop.stages.microphone.taker import State
from cloudrift.devices import SilentSpeaker
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.files.recovery import Shelter
from cloudrift.loop.files.storage import load_document
from cloudrift.loop.model.flip import Flipped
from cloudrift.loop.model.history import History
from cloudrift.loop.model.recorded import FromRecording
from cloudrift.sound import find_sound

FOLDER = Path(__file__).parent.parent / "docs" / "screenshots"
SETTLE_S = 0.8


class Walk:
    """The demo kit's first loop in a window of 1280x800, playing."""

    def __init__(self, app: QApplication) -> None:
        self.app = app
        self.kit = unpack()
        shelter = Shelter(Path(tempfile.mkdtemp()))
        document = load_document(self.kit[0], shelter.clips)
        speaker = SilentSpeaker(document.loop.rate)
        self.session = Session(document, self.kit[0], speaker, shelter=shelter)
        self.window = Window(self.session)
        self.window.resize(1280, 800)
        self.window.show()
        while not {TREATED, BARE} <= set(self.session.hearing.loudness):
            self.wait(0.1)
        self.session.transport.set_playing(True)
        self.session.player.seek(0.31)

    def wait(self, seconds: float = SETTLE_S) -> None:
        """Let rendering and pictures finish."""
        end = time.monotonic() + seconds
        while time.monotonic() < end or self.session.hearing.busy:
            self.app.processEvents()
            time.sleep(0.01)

    def shot(self, name: str, settle_s: float = 2.0, of: QWidget | None = None) -> None:
        """Take a picture, with no notice in it."""
        self.wait(settle_s)
        self.window.message.hide()
        self.app.processEvents()
        (of or self.window).grab().save(str(FOLDER / f"{name}.png"))

    def stage(self, name: str) -> None:
        """Go to a stage by its name."""
        self.window.show_stage(STAGES.index(name))

    def layer(self, role: str) -> str:
        """The id of the first layer of a role."""
        return next(one.id for one in self.session.loop.layers if one.role == role)

    def from_source(self, kind: type) -> str:
        """The id of the layer whose source is of a kind."""
        return next(one.id for one in self.session.loop.layers if isinstance(one.source, kind))

    # --- the pictures ----------------------------------------------------------------------------

    def chords_and_keys(self) -> None:
        """A chord's voice chosen; the keys at the foot."""
        self.session.select(chord_id=self.session.loop.chords[3].id, voice=3)
        self.shot("chords")
        self.window.open_keys()
        self.shot("play-keys")
        self.window.keys.leave()

    def layers_and_tools(self) -> None:
        """A layer; what stands in the inspector's place; a recording."""
        self.stage("Layers")
        self.session.select(layer_id=self.layer("pluck"))
        self.shot("layers")
        self.session.select(layer_id=self.layer("pad"))
        self.window.open_shelf()
        self.window.shelf.hear(find_sound("choir pad"))
        self.shot("shelf")
        self.window.shelf.leave()
        self.window.open_recordings()
        recordings = self.window.recordings
        while not recordings.found:
            self.wait(0.1)
        recordings.search.setText("voice")
        self.wait(2)
        recordings.list.setCurrentItem(recordings.list.topLevelItem(2))
        self.shot("recordings")
        recordings.leave()
        self.session.select(layer_id=self.from_source(FromRecording))
        self.shot("recording")

    def microphone(self) -> None:
        """One take over the loop, and its layer taken away again."""
        loop = self.session.loop
        self.window.open_microphone()
        microphone = self.window.microphone
        microphone.take.click()
        while microphone.taker.state is not State.TAKES:
            self.wait(0.1)
        self.wait(1.15 * loop.frames / loop.rate)
        microphone.take.click()
        while len(self.session.loop.layers) == len(loop.layers):
            self.wait(0.1)
        self.shot("microphone")
        microphone.leave()
        self.session.document.undo()

    def texture(self) -> None:
        """A layer's line and the finishes for it; the whole loop's line in the dark."""
        self.stage("Texture")
        pluck = self.layer("pluck")
        self.session.select(line_of=pluck, treatment_id=self.session.loop.line_of(pluck)[1].id)
        self.shot("texture")
        self.session.select(line_of=None, treatment_id=self.session.loop.line[1].id)
        look.apply(self.app, "Nightfall")
        self.shot("texture-nightfall")
        look.apply(self.app, "Daybreak")

    def flip(self) -> None:
        """The print of the pluck, laid out anew, and what sounds of it."""
        self.stage("Flip")
        self.session.show_ruler(on=True)
        self.session.select(layer_id=self.from_source(Flipped))
        self.wait(1)
        self.window.flip.threads.choose(5)
        self.shot("flip", 3.0)

    def groove(self) -> None:
        """A bed drawn, its second lane's first hit chosen."""
        self.stage("Groove")
        self.window.groove.manner.setCurrentText("half-time")
        self.window.groove.variation.click()
        self.wait(2)
        self.window.groove.lanes.choose(1, frozenset({1}))
        self.shot("groove-bed")

    def arrange(self) -> None:
        """The last section chosen; all of it is heard."""
        self.stage("Arrange")
        stage = self.window.arrange
        stage.hear("all")
        while stage.arranged.busy:
            self.wait(0.1)
        stage.columns.choose(len(stage.columns.model.sections) - 1 if stage.columns.model else 0)
        self.shot("arrange")
        stage.arranged.leave()
        self.session.show_ruler(on=False)

    def deliver(self) -> None:
        """The files, the demo file heard, the kit looked at."""
        self.stage("Deliver")
        deliver = self.window.deliver
        self.shot("deliver", 4.0)
        deliver.show_page(DEMO)
        self.wait(1)
        deliver.demo.heard.hear(1)
        while not deliver.demo.heard.on:
            self.wait(0.1)
        self.shot("demo-file")
        deliver.demo.heard.leave()
        deliver.show_page(KIT_PAGE)
        deliver.kit.take(self.kit[0].parent)
        while len(deliver.kit.looked) < len(self.kit):
            self.wait(0.2)
        deliver.kit.folder.setText(self.kit[0].parent.name)
        self.shot("kit")
        deliver.show_page(0)

    def style_card(self) -> None:
        """A loop that misses three marks."""
        apply = self.session.apply
        chords = self.session.loop.layers[0].id
        apply("a little quicker", lambda now: loop_edits.set_tempo(now, 160.0))
        apply("no roll", lambda now: layer_edits.set_touch(now, chords, roll_ms=0))
        pluck = self.layer("pluck")
        apply("wide", lambda now: layer_edits.set_layer(now, pluck, pan=0.8))
        self.window.open_style()
        self.shot("style", 3.0)
        self.window.show_stage(0)

    def start(self) -> None:
        """The start page at a card, and at nothing."""
        self.window.start_loop()
        self.window.start.choose_card("Marlow Quist")
        self.shot("start")
        self.window.start.choose_source(1)
        self.shot("start-from-nothing")
        self.window.start.leave()

    def end(self) -> None:
        """Nobody is there to be asked to save."""
        self.session.transport.set_playing(False)
        self.session.document.history = History.of(self.session.loop)
        self.session.document.begun = False
        self.window.close()


def main() -> None:
    """Walk through the window in the order of the work."""
    for home in ("CONFIG", "DATA", "STATE"):  # nothing of whoever runs it is read or changed
        os.environ[f"XDG_{home}_HOME"] = tempfile.mkdtemp()
    app = make_app()
    look.apply(app, "Daybreak")
    FOLDER.mkdir(parents=True, exist_ok=True)
    walk = Walk(app)
    walk.chords_and_keys()
    walk.layers_and_tools()
    walk.microphone()
    walk.texture()
    walk.flip()
    walk.arrange()
    walk.deliver()
    walk.groove()
    walk.style_card()
    walk.start()
    walk.end()


if __name__ == "__main__":
    main()
