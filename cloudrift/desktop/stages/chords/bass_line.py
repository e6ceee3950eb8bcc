"""A word on bass notes that nobody plays, and who could: under the threads."""

from PyQt6.QtWidgets import QWidget

from cloudrift.desktop.kit.layouts import fill, horizontal
from cloudrift.desktop.kit.parts import Elided, plain_tip, small_button
from cloudrift.desktop.session.session import Session
from cloudrift.ground.words import plural
from cloudrift.loop.edits.chords.bass import bass_only, let_play_bass, roots_layer, unheard_bass
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.model.loop import Chord, Loop

BASS_SOUND = "round sub"


class BassLine(QWidget):
    """Shown where a bass voice, or a move of it, is heard by no layer; one press mends that."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._about: tuple[Chord, ...] = ()
        self._closed: tuple[Chord, ...] = ()
        self.words = Elided(size=11.5, name="signal")
        self.help = small_button("", self._mend)
        line = horizontal(self, (6, 0, 0, 0), 6)
        fill(line, (self.words, 1), self.help, small_button("close", self._close))
        self.hide()
        session.changed.connect(self._changed)
        session.opened.connect(self._show)
        self._show()

    def _changed(self, before: Loop, after: Loop) -> None:
        self._show(bass_only(before, after))

    def _show(self, moved: tuple[Chord, ...] = ()) -> None:
        loop = self._session.loop
        self._about = about = moved or unheard_bass(loop)
        self.setVisible(bool(about) and about != self._closed)
        if not about:
            return
        names = ", ".join(dict.fromkeys(c.read(loop.key).text for c in about[:3]))
        more = f" and {plural(len(about) - 3, 'more chord')}" if len(about) > 3 else ""
        roots = roots_layer(loop)
        why = f"{roots.name} plays roots" if roots else "no layer plays it"
        self.words.setText(f"The bass voice of {names}{more} does not play: {why}.")
        self.words.setToolTip(plain_tip(self.words.text()))
        self.help.setText(f"Let {roots.name} play it" if roots else "Add a bass that plays it")
        self.help.setToolTip(
            "Its lens plays the lowest voice instead of the root"
            if roots
            else f"A layer with {BASS_SOUND}, that plays the lowest voice"
        )

    def _mend(self) -> None:
        roots = roots_layer(self._session.loop)
        if roots is None:
            self._session.apply(
                "add a bass", lambda loop: layer_edits.add_layer(loop, BASS_SOUND, "Bass")
            )
        else:
            self._session.apply("play the bass", lambda loop: let_play_bass(loop, roots.id))

    def _close(self) -> None:
        self._closed = self._about
        self.hide()
