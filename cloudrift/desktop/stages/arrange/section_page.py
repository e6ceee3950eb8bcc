"""The right-hand panel: the chosen section, in what it differs, in what it could."""

import functools
from collections.abc import Callable, Mapping, Sequence
from functools import partial

from msgspec.structs import replace
from PyQt6.QtWidgets import QLineEdit, QVBoxLayout, QWidget

from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal
from cloudrift.desktop.kit.parts import Inspector, button, clear, heading, label, small_button
from cloudrift.desktop.kit.tiles import TEMPO
from cloudrift.desktop.kit.trying import Trying
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.stages.arrange.rides_here import RidesHere
from cloudrift.ground.settings import Field
from cloudrift.ground.words import number, plural
from cloudrift.loop.edits.arranging import arranging, differences, section_loops
from cloudrift.loop.model.chord import Chord
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.layer import Layer
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.sections import MOST_BARS, MOST_OFFSET_DB, Section
from cloudrift.style import typed_row
from cloudrift.style.form import over_finishes, over_in, slowed_line, slower_st
from cloudrift.style.variations import Variation, variations
from cloudrift.texture.finish import Finish
from cloudrift.theory.fit import plain_key
from cloudrift.theory.key import SCALES, Key
from cloudrift.theory.pitch import pretty

BARS = Field(name="bars", label="Length", default=8, unit="bars", low=1, high=MOST_BARS)
LEVEL = Field(
    name="level_db", label="Level", default=0, unit="dB", low=-60, high=MOST_OFFSET_DB, step=0.5
)
BED = Field(name="bed", label="Groove bed", default="plays", choices=("plays", "off"))
AS_THE_LOOP, RELATIVE = "as the loop", "relative key"
KEY = Field(name="key", label="Key", default=AS_THE_LOOP, choices=(AS_THE_LOOP, RELATIVE))
MODE = Field(name="mode", label="Mode", default=AS_THE_LOOP, choices=(AS_THE_LOOP, *SCALES))
SECTION_TEMPO = replace(
    TEMPO, step=BARS.step, hint="of this section alone; recordings follow as they are fitted"
)
SLOWER = Field(
    name="slower_st",
    label="Slowed",
    default=0,
    unit="st",
    low=0,
    high=12,
    off_low=True,
    hint="like tape: lower too, with the groove bed",
)
NOTHING, OWN = "none", "its own"
OVERS = (NOTHING, "underwater", "thin", "dark")
OVER = Field(
    name="over",
    label="Effect",
    default=NOTHING,
    choices=OVERS,
    hint="on the whole section with its groove bed; or a finish",
)


class SectionPage(Inspector):
    """Fields of a section. ``edit`` takes words and an edit of the document."""

    def __init__(self, session: Session, edit: Callable[..., bool]) -> None:
        super().__init__()
        self._session, self._edit = session, edit
        self._section: Section | None = None
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the section")
        self.name.editingFinished.connect(self._rename)
        self.body.addWidget(self.name)
        self.fields: dict[str, FieldWidget] = {}
        for field, act in (
            (BARS, self._set_bars),
            (LEVEL, self._set_level),
            (BED, self._set_bed),
            (KEY, self._set_key),
            (MODE, self._set_mode),
            (SECTION_TEMPO, self._set_tempo),
            (SLOWER, self._set_slower),
            (OVER, self._set_over),
        ):
            widget = FieldWidget(field, field.default)
            widget.edited.connect(act)
            widget.settled.connect(session.end_drag)
            self.fields[field.name] = widget
            self.body.addWidget(widget)
        self.chords = QLineEdit()
        self.chords.setAccessibleName("Chords of the section")
        self.chords.setPlaceholderText("Chords: as the loop")
        self.chords.setToolTip(
            "Chords of its own, as degrees or names: i VI iv7 V, or F♯m D Bm7 C♯. Empty: those of "
            "the loop"
        )
        self.chords.editingFinished.connect(self._type_chords)
        self.body.addWidget(self.chords)
        self.rides = RidesHere(session, edit)
        self.body.addWidget(self.rides)
        self._differs, self._could = QVBoxLayout(), QVBoxLayout()
        for one in (self._differs, self._could):
            one.setSpacing(3)
            self.body.addLayout(one)
        self.heard = label("", size=11.5, name="soft", wrap=True)
        self.body.addWidget(self.heard)
        self.body.addStretch(1)
        self._shown: object = None
        self._voice_room: dict[int, float] = {}
        self._voice_over: dict[int, float] = {}
        self._found: list[differences.Difference] = []
        self._offered: Sequence[Variation] = ()
        self._finishes: dict[str, Finish] = {}
        self.read_finishes()

    def show_section(self, document: Document, section: Section | None) -> None:
        """Show a section, or that there is none."""
        self._section = section
        there = section is not None
        for widget in (self.name, *self.fields.values(), self.chords, self.rides, self.heard):
            widget.setVisible(there)
        if section is None:
            self.title.setText("No section")
            self.under.setText("Suggest an arrangement, or add a section.")
            clear(self._differs)
            clear(self._could)
            self._shown = None
            return
        sections = document.arrangement.sections
        at = sections.index(section)
        first = 1 + sum(one.bars for one in sections[:at])
        self.title.setText(section.name)
        copied = ""
        if section.copied_from:
            copied = f" · copied from {document.arrangement.section(section.copied_from).name}"
        self.under.setText(f"bars {first} to {first + section.bars - 1}{copied}")
        self.name.setText(section.name)
        self.fields["bars"].set_value(float(section.bars))
        self.fields["level_db"].set_value(section.level_db)
        self.fields["bed"].set_value("plays" if section.bed else "off")
        self.fields["bed"].setEnabled(bool(document.loop.lanes))
        self._show_music(document.loop, section)
        self.fields["slower_st"].set_value(float(slower_st(section.line)))
        loop, finishes = document.loop, self._finishes
        names = (*OVERS, *finishes)
        over = next((one for one in names if over_in(loop, one, finishes) == section.over), OWN)
        self.fields["over"].set_value(over)
        self.rides.show_section(document, section)
        heard = section_loops.heard_in(document.loop, section)
        self.heard.setText(self._facts(document.loop, heard, at))
        self._found = differences.differences(document, section.id)
        self._offered = variations(document, section)
        copied = section.copied_from
        from_name = document.arrangement.section(copied).name if copied else ""
        shown = (
            section.id,
            from_name,
            [one.words for one in self._found],
            [one.words for one in self._offered],
        )
        if shown != self._shown:
            self._shown = shown
            self._build(from_name)

    def _show_music(self, loop: Loop, section: Section) -> None:
        """Its key, mode, tempo and chords, where they are its own."""
        mode = (section.key or loop.key).mode
        self.fields["key"].spec = replace(KEY, choices=(AS_THE_LOOP, RELATIVE, *_tonics(mode)))
        key = section.key
        self.fields["key"].set_value(
            AS_THE_LOOP if key is None or key.pc == loop.key.pc
            else RELATIVE if key == arranging.relative_of(loop.key)
            else _tonics(mode)[key.pc]
        )  # fmt: skip
        own = key is not None and key.mode != loop.key.mode
        self.fields["mode"].set_value(mode if own else AS_THE_LOOP)
        self.fields["tempo"].set_value(section.tempo or loop.tempo)
        if not self.chords.hasFocus():
            there = key or loop.key
            self.chords.setText("  ".join(c.read(there).degree_text for c in section.chords))
            self.chords.setCursorPosition(0)
            self.chords.setModified(False)

    def _facts(self, loop: Loop, heard: tuple[Layer, ...], at: int) -> str:
        """Who plays, and, where it has been made, what room that leaves; against the card."""
        if not heard:
            return "Nothing plays here."
        lanes = {x.id for x in loop.lanes}
        layers = [x.name for x in heard if x.id not in lanes]
        drums = [x.name for x in heard if x.id in lanes]
        said = [f"{plural(len(layers), 'layer')}: {', '.join(layers)}."] if layers else []
        said += [f"Bed: {', '.join(drums)}."] if drums else []
        room = self._voice_room.get(at)
        if room is not None:
            said.append(
                f"Room for a voice: {number(room, '.1f')} dB between 1 and 4 kHz; less leaves more "
                "room."
            )
        over = self._voice_over.get(at)
        if over is not None:
            said.append(f"The guide vocal is {number(over, '+.1f')} dB above the rest there.")
        return "\n".join(said)

    def read_finishes(self) -> None:
        """Look for finishes again: there may be others of one's own."""
        self._finishes = over_finishes()
        self.fields["over"].spec = replace(OVER, choices=(*OVERS, *self._finishes))

    def show_voice_room(self, room: Mapping[int, float], over: Mapping[int, float]) -> None:
        """Say what room sections leave for a voice, as far as they have been made."""
        self._voice_room, self._voice_over = dict(room), dict(over)

    def _build(self, there: str) -> None:
        """Put up what can be pressed; what a press does is that of the section as it is then."""
        clear(self._differs)
        clear(self._could)
        if there:
            self._differs.addWidget(heading(f"Differs from {there} in"))
            for at, one in enumerate(self._found):
                self._differs.addWidget(self._difference(one.words, at))
            if not self._found:
                self._differs.addWidget(label("nothing yet", size=11.5, name="soft"))
        if self._offered:
            self._could.addWidget(heading("Variations"))
        for at, variation in enumerate(self._offered):
            words = variation.words.replace("&", "&&")
            choice = small_button(
                words, partial(self._vary, at), tip="Rest to hear it; click to use it"
            )
            choice.setProperty("fit", "line")
            Trying(choice, self._session, partial(self._varied, at), variation.words)
            self._could.addWidget(choice)

    def _difference(self, text: str, at: int) -> QWidget:
        holder = QWidget()
        row = horizontal(holder, FLUSH)
        words = label(text, size=11.5, wrap=True)
        fill(row, (words, 1), button("undo this", partial(self._take_back, at), name="link"))
        return holder

    def _take_back(self, at: int) -> None:
        one = self._found[at]
        self._edit(f"undo: {one.words}"[:60], one.back)

    def _vary(self, at: int) -> None:
        section, variation = self._section, self._offered[at]
        if section is not None:
            self._edit(
                variation.words[:60],
                lambda document: arranging.change_section(document, section.id, variation.edit),
            )

    def _varied(self, at: int, loop: Loop) -> Loop:
        assert self._section is not None
        return section_loops.loop_in(loop, self._offered[at].edit(self._section))

    # --- fields -------------------------------------------------------------------------------

    def _set(self, words: str, *, moving: bool = False, **changes: object) -> None:
        section = self._section
        if section is not None:
            self._edit(
                words,
                lambda document: arranging.set_section(document, section.id, **changes),
                moving=moving,
            )

    def _rename(self) -> None:
        name = self.name.text().strip()
        if self._section is not None and self.name.isModified() and name:
            self.name.setModified(False)
            self._set("name a section", name=name)

    def _set_bars(self, value: object) -> None:
        self._set("length of a section", moving=True, bars=round(float(str(value))))

    def _set_level(self, value: object) -> None:
        self._set("level of a section", moving=True, level_db=float(str(value)))

    def _set_bed(self, value: object) -> None:
        self._set("the groove bed in a section", bed=value == "plays")

    def _in_section(
        self, words: str, edit: Callable[[Document, str], Document], *, moving: bool = False
    ) -> None:
        section = self._section
        if section is not None:
            self._edit(words, lambda document: edit(document, section.id), moving=moving)

    def _put_key(self, key: Key | None) -> None:
        self._in_section("key of a section", lambda one, at: arranging.set_key(one, at, key))

    @property
    def _own_key(self) -> Key:
        section = self._section
        return section.key if section and section.key else self._session.loop.key

    def _set_key(self, value: object) -> None:
        loop, own = self._session.loop, self._own_key
        if value == AS_THE_LOOP:
            self._put_key(None)
        elif value == RELATIVE:
            self._put_key(arranging.relative_of(loop.key))
        else:
            self._put_key(plain_key(_tonics(own.mode).index(str(value)), own.mode))

    def _set_mode(self, value: object) -> None:
        loop, own = self._session.loop, self._own_key
        mode = loop.key.mode if value == AS_THE_LOOP else str(value)
        self._put_key(loop.key.shifted((own.pc - loop.key.pc) % 12)
                      if mode == loop.key.mode else plain_key(own.pc, mode))  # fmt: skip

    def _set_tempo(self, value: object) -> None:
        tempo = float(str(value))
        self._in_section(
            "tempo of a section", lambda one, at: arranging.set_tempo(one, at, tempo), moving=True
        )

    def _type_chords(self) -> None:
        """Give the section the chords that are typed; what is no chord is said, and stays."""
        section, text = self._section, self.chords.text()
        if section is None or not self.chords.isModified():
            return
        self.chords.setModified(False)

        def edit(document: Document, at: str) -> Document:
            chords: tuple[Chord, ...] = ()
            if text.strip():
                plain = section_loops.loop_in(document.loop, replace(section, chords=()))
                chords = typed_row(plain, text).chords
                chords = tuple(c for c in chords if c.start_tick < plain.ticks)
            return arranging.set_section(document, at, chords=chords)

        self._in_section("chords of a section", edit)

    def _set_slower(self, value: object) -> None:
        line = slowed_line(round(float(str(value))))
        self._set("speed of a section", moving=True, line=line)

    def _set_over(self, value: object) -> None:
        self._set(
            "effect on a section", over=over_in(self._session.loop, str(value), self._finishes)
        )


@functools.cache
def _tonics(mode: str) -> tuple[str, ...]:
    """The twelve tonics as they are spelled in a mode, from C up."""
    return tuple(pretty(plain_key(pc, mode).tonic) for pc in range(12))
