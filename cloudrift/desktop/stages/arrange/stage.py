"""The Arrange stage: the loop in sections, what happens between them, all of it heard."""

from collections.abc import Callable
from functools import partial

from msgspec.structs import replace
from PyQt6.QtCore import QPoint
from PyQt6.QtGui import QHideEvent, QShowEvent
from PyQt6.QtWidgets import QWidget

from cloudrift.desktop.kit.choice_box import ChoiceBox
from cloudrift.desktop.kit.commands import Command
from cloudrift.desktop.kit.flow import Flow, takes_rest
from cloudrift.desktop.kit.fold import Fold
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.look import SEMI
from cloudrift.desktop.kit.parts import (
    ChoiceRow,
    Elided,
    ScrollingPage,
    WhileShown,
    button,
    label,
    menu_of,
    panel,
    small_button,
)
from cloudrift.desktop.session.hearing.preview import Preview
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.arranged import Arranged
from cloudrift.desktop.session.work.tasks import Tasks
from cloudrift.desktop.stages.arrange.columns import Columns
from cloudrift.desktop.stages.arrange.lead import form_lead
from cloudrift.desktop.stages.arrange.seam_fields import SeamFields
from cloudrift.desktop.stages.arrange.section_page import SectionPage
from cloudrift.desktop.stages.arrange.sum_row import SumRow
from cloudrift.desktop.stages.arrange.voice_row import VoiceRow
from cloudrift.desktop.stages.arrange.voice_taker import VoiceTaker
from cloudrift.ground.draws import MAX_VARIATION
from cloudrift.loop.edits.arranging import arranging, section_loops
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.sections import MOST_OFFSET_DB, Section
from cloudrift.style.form import find_form, forms, suggest_form

NAMED_PX, PICTURE_PX = 220, 180  # that the words on top have at least; of height
HEARD = (("loop", "the loop"), ("section", "this section"), ("all", "arrangement"))
AROUND_BARS = 2.0  # heard before a seam


class ArrangeStage(QWidget):
    """The picture, the seam below it; the section is in the ``inspector``."""

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__()
        self._session = session
        self.arranged = Arranged(session, tasks)
        self._section = Preview(session.hearing.previews, self)
        self._section.ended.connect(self._show_heard)
        self._heard_section: Section | None = None
        self.columns = Columns(session)
        self.columns.chosen.connect(self._choose)
        self.columns.seam_chosen.connect(self._choose_seam)
        self.columns.seam_heard.connect(self.hear_seam)
        self.columns.swapped.connect(self.swap_part)
        self.columns.level_moved.connect(self.move_level)
        self.columns.moved.connect(self._move)
        self.columns.removed.connect(self.remove)
        self.columns.menu_wanted.connect(self._open_menu)
        self.words = Elided(size=11.5, name="soft")
        self.heard = ChoiceRow(list(HEARD), columns=3, name="Play", even=False)
        self.heard.chosen.connect(self.hear)
        self.form = ChoiceBox("Form")
        self.form.addItems(list(forms()))
        self.form.setMinimumWidth(150)
        self.form.currentTextChanged.connect(
            lambda name: self.form.setToolTip(find_form(name).about)
        )
        self.form.setToolTip(find_form(self.form.currentText()).about)
        self.variation = button(
            "Suggest",
            self.suggest_form,
            name="strong",
            tip="Replaces the sections by the form's; each click is another variation",
        )
        self._form = ""  # that it was drawn in when it was shown last
        self.seam = SeamFields(session, self.edit, self.hear_seam)
        self.page = SectionPage(session, self.edit)
        self.sum = SumRow(session, self.arranged, self.edit)
        self.taker = VoiceTaker(session, tasks, self.arranged)
        self.voice = VoiceRow(session, self.taker, self.edit, lambda: self.columns.at)
        self._lay_out()
        WhileShown(self, self.refresh, session.changed, session.opened, session.ruler_shown)
        self.arranged.changed.connect(self._show_made)
        self.refresh()

    def _lay_out(self) -> None:
        middle = panel()
        column = vertical(middle, (12, 9, 12, 9), 6)
        named, head = QWidget(), QWidget()
        fill(
            horizontal(named, FLUSH, 6), label("Arrangement", size=14, weight=SEMI), (self.words, 1)
        )
        takes_rest(named, NAMED_PX)
        line = Flow(head, spacing=6)
        add = small_button(
            "Add a section", self.add, tip="A section at the end that plays the loop twice"
        )
        hear = label("Play", size=11.5, name="soft")
        for one in (named, hear, self.heard, add):
            line.addWidget(one)
        acts = QWidget()
        line = Flow(acts, spacing=5)
        for words, act, tip in (
            ("Add", self.add, "A section at the end: the loop as it is"),
            ("Duplicate", self.copy, "A copy after it, which shows what differs"),
            ("Delete", self.remove, "Delete the section"),
            ("Earlier", partial(self._move_chosen, -1), "Ctrl+Left"),
            ("Later", partial(self._move_chosen, 1), "Ctrl+Right"),
            ("Repeat", self.twice, "Repeat all sections after these"),
        ):
            line.addWidget(small_button(words, act, tip=tip))
        for one in (self.form, self.variation):
            line.addWidget(one)
        whole = QWidget()
        fill(vertical(whole, FLUSH, 4), self.sum, self.voice)
        self.whole = Fold("Whole arrangement: master chain, guide vocal", whole)
        picture = ScrollingPage(self.columns)
        picture.setMinimumHeight(PICTURE_PX)
        self.lead = form_lead(self._session, self.draw_in)
        fill(column, head, acts, self.whole, (picture, 1), self.seam, (self.lead, 1))
        # Where there are no sections, nothing is shown that could do nothing.
        self._filled = (hear, self.heard, acts, self.whole, picture)
        self._empty = (add, self.lead)
        outer = vertical(self, FLUSH)
        outer.addWidget(middle)

    @property
    def inspector(self) -> SectionPage:
        """What stands beside the stage."""
        return self.page

    # --- showing ------------------------------------------------------------------------------

    @property
    def _document(self) -> Document:
        return self._session.document.history.now

    @property
    def section(self) -> Section | None:
        """The section that is chosen."""
        sections = self._document.arrangement.sections
        return sections[self.columns.at] if self.columns.at < len(sections) else None

    def refresh(self) -> None:
        """Show how the document is arranged now."""
        self.columns.show_document(self._document)
        self.columns.show_loudness(self.arranged.loudness)
        model = self.columns.model
        self.words.setText(model.words if model else "no sections yet")
        self.page.show_section(self._document, self.section)
        self.seam.show_section(self._document, self.section)
        there = self.section is not None
        for widget in (*self._filled, self.seam):
            widget.setVisible(there)
        for widget in self._empty:
            widget.setVisible(not there)
        self.sum.show_document(self._document)
        self.voice.show_document(self._document)
        self.whole.say(f"{self.sum.says} · {self.voice.says}")
        self._show_form()
        self._follow_section()
        self._show_heard()

    def _show_form(self) -> None:
        """Offer the form that it was drawn in, when another document is."""
        name = self._document.arrangement.form
        if name != self._form and name in forms():
            self.form.setCurrentText(name)
        self._form = name

    def _show_made(self) -> None:
        self.columns.show_loudness(self.arranged.loudness)
        self.sum.show_loudness()
        self.page.show_voice_room(self.arranged.voice_room, self.arranged.voice_over)
        self.page.show_section(self._document, self.section)
        self._show_heard()

    def _show_heard(self) -> None:
        self.heard.show_choice(
            "all" if self.arranged.on else "section" if self._section.on else "loop"
        )
        there = self.section is not None
        for what in ("section", "all"):
            self.heard.button(what).setEnabled(there)

    def show_place(self, _share: float) -> None:
        """Follow the sound, where it is the arrangement's."""
        place = self.arranged.place()
        self.columns.show_place((place.at, place.inside) if place else None)

    def _choose(self, at: int) -> None:
        section = self.section
        self.page.show_section(self._document, section)
        self.seam.show_section(self._document, section)
        self._follow_section()
        if self.arranged.on and at < len(self._document.arrangement.sections):
            self._session.player.seek(self.arranged.share_of(at))

    def _choose_seam(self, _at: int) -> None:
        self.page.show_section(self._document, self.section)
        self.seam.show_section(self._document, self.section)

    # --- hearing ------------------------------------------------------------------------------

    def hear(self, what: object) -> None:
        """Hear the loop, the chosen section, or all of it from there."""
        section = self.section
        if what != "all":
            self.arranged.leave()
        if what != "section":
            self._section.end()
            self._heard_section = None
        if what == "section" and section is not None:
            self._put_section(section)
        elif what == "all" and section is not None:
            self.arranged.hear(self.columns.at)
        self._show_heard()

    def hear_seam(self, at: int | None = None) -> None:
        """Hear the bars around a seam: two before it, and on."""
        at = self.columns.at if at is None else at
        self._section.end()
        if at < 1:
            self._session.say("nothing comes before the first section; choose another seam")
            return
        self.arranged.hear(at, before_bars=AROUND_BARS)
        self._show_heard()

    def _put_section(self, section: Section) -> None:
        self._heard_section = section
        self._section.put(
            lambda loop: section_loops.loop_in(loop, section), f"playing {section.name}"
        )

    def _follow_section(self) -> None:
        """The section that is heard has changed, or another one is chosen: hear that."""
        section = self.section
        if self._section.on and section is not None and section != self._heard_section:
            self._put_section(section)

    # --- doing --------------------------------------------------------------------------------

    def edit(
        self, words: str, edit: Callable[[Document], Document], *, moving: bool = False
    ) -> bool:
        """Change how the document is arranged, as one step; what is refused is shown as it is."""
        merge = f"{words} {self.section.id if self.section else ''}" if moving else ""
        made = self._session.document.change(words, edit, merge=merge, moving=moving)
        if not made:
            self.refresh()
        return made

    def draw_in(self, form: str) -> None:
        """Draw a form by its name."""
        self.form.setCurrentText(form)
        self.suggest_form()
        self.columns.setFocus()

    def suggest_form(self) -> None:
        """Draw the chosen form; another variation with each press."""
        arrangement, form = self._document.arrangement, find_form(self.form.currentText())
        again = arrangement.form == form.name and bool(arrangement.sections)
        variation = arrangement.variation % MAX_VARIATION + 1 if again else 1
        if self.edit(
            "suggest an arrangement", lambda document: suggest_form(document, form, variation)
        ):
            self.columns.choose(0)

    def add(self) -> None:
        """Put a section at the end."""
        if self.edit("add a section", arranging.add_section):
            self.columns.choose(len(self._document.arrangement.sections) - 1)

    def copy(self) -> None:
        """Put a copy of the chosen section after it."""
        section = self.section
        if section is not None and self.edit(
            "duplicate a section", lambda document: arranging.copy_section(document, section.id)[0]
        ):
            self.columns.choose(self.columns.at + 1)

    def remove(self) -> None:
        """Take the chosen section out."""
        section = self.section
        if section is not None:
            self.edit(
                "delete a section", lambda document: arranging.remove_section(document, section.id)
            )

    def twice(self) -> None:
        """Let all sections come once more."""
        self.edit("repeat all sections", arranging.repeat_all)

    def _move_chosen(self, by: int) -> None:
        self._move(self.columns.at, by)

    def _move(self, at: int, by: int) -> None:
        section = self.section
        if section is not None and self.edit(
            "move a section", lambda document: arranging.move_section(document, section.id, by)
        ):
            self.columns.choose(at + by)

    def swap_part(self, at: int, row: int) -> None:
        """Take a layer or a lane out of a section, or let it in."""
        model = self.columns.model
        if model is None:
            return
        section, what = model.sections[at], model.rows[row]
        on = model.owner(at, row) is None
        if what.is_lane and on and not section.bed:
            self.edit(
                "the groove bed in a section",
                lambda document: arranging.change_section(
                    document, section.id, lambda one: _with_lane_alone(one, what.id, document)
                ),
            )
            return
        self.edit(
            f"{what.name} {'in' if on else 'out'}"[:60],
            lambda document: arranging.set_part(
                document, section.id, what.id, on=_said(document, what.id, on)
            ),
        )

    def move_level(self, at: int, row: int, by_db: float) -> None:
        """Turn a layer or a lane up or down in a section."""
        model = self.columns.model
        if model is None:
            return
        section, what = model.sections[at], model.rows[row]
        level = min(max(section.part(what.id).level_db + by_db, -48.0), MOST_OFFSET_DB)
        self.edit(
            f"level of {what.name}"[:60],
            lambda document: arranging.set_part(document, section.id, what.id, level_db=level),
            moving=True,
        )

    def _open_menu(self, place: object) -> None:
        assert isinstance(place, QPoint)
        menu_of(
            self,
            (
                ("Duplicate", self.copy),
                ("Delete", self.remove),
                ("Earlier", partial(self._move_chosen, -1)),
                ("Later", partial(self._move_chosen, 1)),
            ),
        ).popup(place)

    # --- the stage ----------------------------------------------------------------------------

    @staticmethod
    def commands() -> tuple[Command, ...]:
        """What the menu offers."""
        here = ArrangeStage
        return (
            Command("&Suggest an arrangement", here.suggest_form, goes=True),
            Command("&Add a section", here.add, goes=True),
            Command("&Duplicate the section", here.copy, "Ctrl+Shift+D", goes=True),
            Command("Play the &arrangement", lambda it: it.hear("all"), "Shift+Space", goes=True),
            Command("Play this &section", lambda it: it.hear("section"), goes=True),
            Command("Play the &loop", lambda it: it.hear("loop"), goes=True),
        )

    def focus_first(self) -> None:
        """Take the focus to the picture, or to what draws a form."""
        (self.columns if self.columns.model else self.lead.first).setFocus()

    def showEvent(self, _event: QShowEvent | None) -> None:
        self.page.read_finishes()
        self.refresh()

    def hideEvent(self, _event: QHideEvent | None) -> None:
        self._heard_section = None
        if self.taker.taking:
            self.taker.finish()


def _said(document: Document, owner: str, on: bool) -> bool | None:
    """What a section has to say of a layer for it to be heard, or not: nothing where that is so."""
    plain = document.loop.layer(owner)
    as_it_is = not plain.mute and not plain.parked
    return None if on == as_it_is else on


def _with_lane_alone(section: Section, lane_id: str, document: Document) -> Section:
    """A section that gets one lane of the groove bed, where it had none."""
    made = replace(section, bed=True)
    for lane in document.loop.lanes:
        on = _said(document, lane.id, lane.id == lane_id)
        made = made.with_part(replace(made.part(lane.id), on=on))
    return made
