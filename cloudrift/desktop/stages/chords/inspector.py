"""What the selected chord is: its voicing, its rhythm, its touch, and how it reads."""

from collections.abc import Callable

from cloudrift.desktop.kit.parts import ChoiceRow, Inspector, Pages
from cloudrift.desktop.stages.chords.moves import Moves
from cloudrift.desktop.stages.chords.pages import Page
from cloudrift.desktop.stages.chords.reading_page import ReadingPage
from cloudrift.desktop.stages.chords.rhythm_page import RhythmPage
from cloudrift.desktop.stages.chords.touch_page import TouchPage
from cloudrift.desktop.stages.chords.voice_page import VoicePage
from cloudrift.notes.time import bar_ticks

PAGES: tuple[tuple[str, Callable[[Moves], Page]], ...] = (
    ("Voice", VoicePage),
    ("Rhythm", RhythmPage),
    ("Touch", TouchPage),
    ("Reading", ReadingPage),
)


class ChordInspector(Inspector):
    """The right-hand panel of the stage, in four pages."""

    def __init__(self, moves: Moves) -> None:
        super().__init__()
        self._session = moves.session
        names = [name for name, _ in PAGES]
        self.tabs = ChoiceRow([(n, n) for n in names], columns=4, name="About the chord")
        self.stack = Pages()
        self.pages = {name: make(moves) for name, make in PAGES}
        for page in self.pages.values():
            page.finish()
            self.stack.addWidget(page)
        self.top.addWidget(self.tabs)
        self.body.addWidget(self.stack)
        self.body.addStretch(1)
        self.tabs.chosen.connect(self.show_page)
        session = self._session
        session.changed.connect(lambda _b, _a: self.refresh())
        session.opened.connect(self.refresh)
        session.selected.connect(self.refresh)
        self.show_page("Voice")

    def all_nearest(self) -> None:
        """Voice every chord nearest to the one before it."""
        voice = self.pages["Voice"]
        assert isinstance(voice, VoicePage)
        voice.all_nearest()

    def show_page(self, name: str) -> None:
        """Turn to a page."""
        self.stack.setCurrentWidget(self.pages[name])
        self.tabs.show_choice(name)
        self.refresh()

    def refresh(self) -> None:
        """Show the chord in front, on the page that is open."""
        loop, selection = self._session.loop, self._session.selection
        page = self.stack.currentWidget()
        assert isinstance(page, Page)
        for part in (self.tabs, self.stack):  # without a chord there is nothing to say of one
            part.setVisible(bool(selection.chord_id))
        if not selection.chord_id:
            self.title.setText("No chord")
            self.under.setText("Click a chord under Next chord, or type a progression.")
            return
        chord = loop.chord(selection.chord_id)
        reading = chord.read(loop.key)
        bar = bar_ticks(loop.metre)
        first, last = chord.start_tick / bar + 1, chord.end_tick / bar + 1
        notes = " ".join(loop.key.spell_pitch(v) for v in chord.voices)
        more = f" and {len(selection.more)} more" if selection.more else ""
        self.title.setText(reading.text + more)
        self.under.setText(f"{reading.degree_text} · bars {first:g} to {last:g}\n{notes}")
        page.show_chord(chord)
