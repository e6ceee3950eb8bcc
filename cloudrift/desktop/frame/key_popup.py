"""The key editor: another key with everything following, names only, or by ear at five shifts."""

from functools import partial

from PyQt6.QtGui import QCloseEvent, QHideEvent
from PyQt6.QtWidgets import QWidget

from cloudrift.desktop.kit.layouts import FLUSH, vertical
from cloudrift.desktop.kit.parts import ChoiceRow, clear, heading, label, row_of_heading
from cloudrift.desktop.kit.rows import row, small
from cloudrift.desktop.kit.tiles import Popup, Tile
from cloudrift.desktop.kit.trying import Trying
from cloudrift.desktop.session.hearing.preview import Preview
from cloudrift.desktop.session.session import Session
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import number
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.layers.joining import apart_words, join, shift_words
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.sounding import heard, key_heard
from cloudrift.loop.sounding.heard import Disagreement
from cloudrift.theory.fit import fit, other_fits, parallel_of, plain_key, relative_of, weights_of
from cloudrift.theory.key import SCALES, Key
from cloudrift.theory.pitch import pretty

FOLLOW, STAY = "follow", "stay"
SHIFTS = (-2, -1, 0, 1, 2)
FARTHEST = 9
WIDTH = 372
MOST_APART = 3  # layers that are said to sound apart from the others


class KeyPopup(Popup):
    """Tonic, scale, related keys, how well the chords fit, and hearing it elsewhere."""

    def __init__(self, tile: Tile, session: Session) -> None:
        super().__init__(tile, WIDTH)
        self._session = session
        self._middle = 0
        self.heard: int | None = None  # the shift that is heard now
        self._preview = Preview(session.hearing.previews, self)
        self._preview.ended.connect(self._heard_no_more)
        self.way = ChoiceRow(
            [(FOLLOW, "Chords follow"), (STAY, "Chords stay, names change")],
            columns=2,
            name="What a new key does",
        )
        self.way.show_choice(FOLLOW)
        self.way.chosen.connect(self._choose_way)
        self._way = FOLLOW
        self.tonics = ChoiceRow([(pc, "") for pc in range(12)], columns=6, name="Tonic")
        self.tonics.chosen.connect(lambda pc: self.put(plain_key(pc, self._session.loop.key.mode)))
        self.modes = ChoiceRow([(m, m) for m in SCALES], columns=3, name="Scale")
        self.modes.chosen.connect(lambda m: self.put(Key(self._session.loop.key.tonic, m)))
        self.under = label("", size=11.5, name="soft", wrap=True)
        self.fits = label("", size=11.5, name="soft", wrap=True)
        self.relative = small("", self._put_relative)
        self.relative.setToolTip("Same notes, another tonic: chords stay")
        self.parallel = small("", self._put_parallel)
        self.parallel.setToolTip("Same tonic, another scale: degrees stay")
        self.shifts = ChoiceRow([(i, "") for i in range(5)], columns=5, name="Transpose and play")
        self.shifts.chosen.connect(lambda i: self.hear(self._middle + SHIFTS[i]))
        self.keep = small("Keep this key", self._keep, "Transpose the loop to the key that plays")
        self.apart = QWidget()
        vertical(self.apart, FLUSH, spacing=4)
        self._apart_of: object = None
        for widget in (
            self.apart,
            row_of_heading(
                "Key", small("From a recording…", self._listen, "Find key and tempo of a recording")
            ),
            self.way,
            self.tonics,
            row(
                [
                    small("−1 st", lambda: self.shift(-1), "Everything a semitone down"),
                    small("+1 st", lambda: self.shift(1), "Everything a semitone up"),
                ]
            ),
            heading("Scale"),
            self.modes,
            self.under,
            heading("Related"),
            row([self.relative, self.parallel]),
            self.fits,
            heading("Find a better key: hear it"),
            self.shifts,
            row(
                [
                    small("Lower", lambda: self._move_middle(-1)),
                    self.keep,
                    small("Higher", lambda: self._move_middle(1)),
                ]
            ),
        ):
            self.body.addWidget(widget)
        self.sync()

    # --- what is done -------------------------------------------------------------------------

    def _show_apart(self, loop: Loop) -> None:
        """Layers that sound apart from the others, each with the shift that joins it."""
        found = heard(loop).disagreements
        if found == self._apart_of:
            return
        self._apart_of = found
        column = self.apart.layout()
        assert column is not None
        clear(column)
        for one in found[:MOST_APART]:
            said = label(apart_words(loop, one), size=12, name="signal", wrap=True)
            words = f"Shift it {shift_words(one)}"
            press = small(words, partial(self._join, one), "So that it sounds with the others")
            Trying(press, self._session, partial(join, apart=one), f"{words}, preview")
            column.addWidget(row([said, press]))
        self.apart.setVisible(bool(found))

    def _join(self, one: Disagreement) -> None:
        self._session.apply(f"shift {shift_words(one)}", partial(join, apart=one))
        self.sync()

    def _listen(self) -> None:
        window = self._owner.window()
        self.close()
        window.importing.choose_reference()  # type: ignore[union-attr]

    def _choose_way(self, way: str) -> None:
        self._way = way

    def put(self, key: Key) -> None:
        """Change the key, with the chords following or staying as chosen."""
        self._stop_hearing()
        edit = loop_edits.set_key if self._way == FOLLOW else loop_edits.rename_key
        self._session.apply(f"key {key.text}", lambda loop: edit(loop, key))
        self.sync()

    def _put_relative(self) -> None:
        self._stop_hearing()
        key = relative_of(self._session.loop.key)
        self._session.apply(
            f"key {key.text}, chords unchanged", lambda loop: loop_edits.rename_key(loop, key)
        )
        self.sync()

    def _put_parallel(self) -> None:
        self._stop_hearing()
        key = parallel_of(self._session.loop.key)
        self._session.apply(f"key {key.text}", lambda loop: loop_edits.set_key(loop, key))
        self.sync()

    def shift(self, semitones: int) -> None:
        """Move everything by semitones."""
        self._stop_hearing()
        self._session.apply(
            f"key {number(semitones, '+d')} st", lambda loop: loop_edits.shift_key(loop, semitones)
        )
        self.sync()

    # --- by ear -------------------------------------------------------------------------------

    def hear(self, semitones: int) -> None:
        """Hear the loop that many semitones higher or lower, in its place, unchanged."""
        session = self._session
        self._preview.end()
        try:
            if semitones:
                self._preview.put(
                    lambda loop: loop_edits.shift_key(loop, semitones),
                    f"plays {number(semitones, '+d')} st",
                )
        except CloudriftError as error:
            session.say(str(error))
            self.sync()
            return
        self.heard = semitones
        if not session.player.playing:
            session.transport.set_playing(True)
        self.sync()

    def _keep(self) -> None:
        if self.heard:
            self.shift(self.heard)
            self._middle = 0
            self.sync()

    def _move_middle(self, by: int) -> None:
        self._middle = min(max(self._middle + by, -FARTHEST), FARTHEST)
        self.sync()

    def _stop_hearing(self) -> None:
        self._preview.end()
        self.heard = None

    def _heard_no_more(self) -> None:
        self.heard = None
        self.sync()

    def hideEvent(self, event: QHideEvent | None) -> None:
        self._stop_hearing()
        super().hideEvent(event)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        self._stop_hearing()
        super().closeEvent(event)

    # --- what is shown ------------------------------------------------------------------------

    def sync(self) -> None:
        """Show the key as it is."""
        loop = self._session.loop
        key = loop.key
        for pc in range(12):
            name = pretty(plain_key(pc, key.mode).tonic)
            self.tonics.button(pc).setText(name)
            self.tonics.button(pc).setAccessibleName(f"Tonic: {name}")
        self.tonics.show_choice(key.pc)
        self.modes.show_choice(key.mode)
        notes = " ".join(pretty(key.spell(pc)) for pc in key.scale)
        heard = key_heard(loop)
        more = f"\nsounds {heard.text} after the whole loop's treatments" if heard != key else ""
        self.under.setText(f"{key.text}: {notes}{more}")
        self._show_apart(loop)
        self.relative.setText(f"Relative: {relative_of(key).text}")
        self.parallel.setText(f"Parallel: {parallel_of(key).text}")
        self.fits.setText(_fit_words(loop))
        self.keep.setEnabled(bool(self.heard))
        for i, by in enumerate(SHIFTS):
            semitones = self._middle + by
            text = pretty(key.shifted(semitones).tonic)
            away = f"{number(semitones, '+d')} st" if semitones else "as written"
            self.shifts.button(i).setText(f"{text}\n{away}")
        chosen = None if self.heard is None else self.heard - self._middle
        self.shifts.show_choice(SHIFTS.index(chosen) if chosen in SHIFTS else None)


def _fit_words(loop: Loop) -> str:
    """Say how much of what the chords hold lies in this key and in others."""
    if not loop.chords:
        return "No chords yet."
    weights = weights_of(
        [c.voices for c in loop.chords], [float(c.length_ticks) for c in loop.chords]
    )
    own = f"{fit(weights, loop.key):.0%} of the chords are in {loop.key.text}"
    others = ", ".join(f"{k.text} {share:.0%}" for k, share in other_fits(weights, loop.key, 3))
    return f"{own}; in others: {others}."


def open_key(tile: Tile, session: Session) -> KeyPopup:
    """Open the key editor under its tile."""
    popup = KeyPopup(tile, session)
    popup.open()
    popup.tonics.button(session.loop.key.pc).setFocus()
    return popup
