"""The Texture stage: which line, and its descent from bare to treated."""

from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QKeySequence
from PyQt6.QtWidgets import QApplication, QWidget

from cloudrift.desktop.kit.commands import Command
from cloudrift.desktop.kit.flow import Flow, takes_rest
from cloudrift.desktop.kit.held import held
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.look import SEMI
from cloudrift.desktop.kit.parts import (
    ChoiceRow,
    Elided,
    Pages,
    WhileShown,
    button,
    clear,
    label,
    panel,
    scrolling,
)
from cloudrift.desktop.session.hearing.hearing import BARE, TREATED
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.tasks import Tasks
from cloudrift.desktop.stages.texture.adding import AddBar
from cloudrift.desktop.stages.texture.bare_row import BareRow, Link
from cloudrift.desktop.stages.texture.finish_page import FinishPage
from cloudrift.desktop.stages.texture.harsh_line import HarshLine
from cloudrift.desktop.stages.texture.line_blend import LineBlend
from cloudrift.desktop.stages.texture.pair_page import PairPage
from cloudrift.desktop.stages.texture.passing import copied_line, copy_line
from cloudrift.desktop.stages.texture.row import TreatmentRow
from cloudrift.desktop.stages.texture.step_work import facts_work, portrait_work
from cloudrift.desktop.stages.texture.strip import Strip
from cloudrift.desktop.stages.texture.targets import (
    ALL,
    BED_PART,
    GROUPS,
    LAYERS,
    Owner,
    Targets,
    line_owners,
)
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import number, plural
from cloudrift.loop.edits.layers import line_edits
from cloudrift.loop.model.loop import LineAt, Loop
from cloudrift.render.measure.step_facts import StepFacts, harsh_in, step_facts
from cloudrift.render.plan.plan import step_context
from cloudrift.texture import KINDS
from cloudrift.texture.kinds.resonances import Harsh
from cloudrift.texture.picture import Portrait
from cloudrift.texture.treatment import Line

BARE_WORDS = {
    LAYERS: "as played or placed",
    GROUPS: "its layers together, each after its own line",
    ALL: "the layers together, each after its own line",
    BED_PART: "as played",
}
TITLE_PX = 180  # that a line's name has at least
COMPARES = (("loop", "all"), ("line", "line"), ("card", "treatment"))


class TextureStage(QWidget):
    """Lines at the left, then the descent, or two strips; finishes are in the ``inspector``."""

    finishes_wanted = pyqtSignal()  # they are to be seen

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__()
        self._session, self._tasks = session, tasks
        self.targets = Targets()
        self.targets.chosen.connect(self._choose_line)
        self.rows: list[TreatmentRow] = []
        self.strips: list[Strip] = []
        self._bare: BareRow | None = None
        self._facts: dict[int, StepFacts] = {}
        self._built: tuple[object, ...] = ()
        self._share = 0.0
        self.finishes = FinishPage(session)
        self.pair = PairPage()
        self.pair.asked.connect(self._ask_for_pair)
        self.pair.pressed.connect(self._press)
        self.pair.left.connect(self.show_line)
        self.pages = Pages()
        for page in (self._descent(), self.pair):
            self.pages.addWidget(page)
        middle = panel()
        inside = vertical(middle, (12, 7, 4, 8))
        inside.addWidget(self.pages)
        row = horizontal(self, FLUSH, 8)
        fill(row, self.targets, (middle, 1))
        WhileShown(self, self._show, session.changed, session.opened, session.selected)
        session.hearing.changed.connect(self._show_heard)
        session.hearing.loudness_changed.connect(self._show_loudness)
        session.hearing.sound_changed.connect(lambda _r: self._ask_for_facts())
        self._show()

    # --- parts --------------------------------------------------------------------------------

    def _descent(self) -> QWidget:
        page = QWidget()
        inside = vertical(page, FLUSH, 4)
        inside.addWidget(self._head())
        self._list = vertical(margins=(0, 2, 8, 2), spacing=0)
        holder = QWidget()
        holder.setLayout(self._list)
        self._scroll = scrolling(holder)
        inside.addWidget(self._scroll, 1)
        self.treated = label("", size=11.5, name="soft", wrap=True)
        self.blend = LineBlend(self._session)
        foot = horizontal(margins=(0, 0, 8, 0))
        fill(foot, (self.treated, 1), self.blend)
        inside.addLayout(foot)
        self.harsh = HarshLine()
        self.harsh.notch_wanted.connect(self._notch)
        inside.addWidget(self.harsh)
        self.adding = AddBar()
        self.adding.chosen.connect(self._add)
        self.adders = self.adding.adders
        inside.addWidget(self.adding)
        return page

    def _head(self) -> QWidget:
        holder = QWidget()
        row = Flow(holder)
        self.title = Elided(size=14, weight=SEMI)
        self.compares = ChoiceRow(COMPARES, name="B compares", even=False)
        self.compares.chosen.connect(self._compare)
        for one in (takes_rest(self.title, TITLE_PX), label("B compares", size=11.5, name="soft"),
                    self.compares):  # fmt: skip
            row.addWidget(one)
        for text, act, tip in (
            ("Side by side", self.show_pair, "Two large strips with their spectra (Shift+B)"),
            ("Find harsh", self.find_harsh, "Finds a narrow resonance and suggests a notch"),
            ("Copy line", self.copy_line, "As text, for another line (Ctrl+Shift+C)"),
            ("Paste", self.paste, "Treatments or a line, after the open one (Ctrl+V)"),
        ):
            row.addWidget(button(text, act, name="link", tip=tip))
        return holder

    @property
    def inspector(self) -> FinishPage:
        """What stands beside the stage."""
        return self.finishes

    # --- acts ---------------------------------------------------------------------------------

    @property
    def _line_of(self) -> str | None:
        return self._session.selection.line_of

    def _owner(self) -> Owner:
        return next(one for one in line_owners(self._session.loop) if one.id == self._line_of)

    def _choose_line(self, line_of: LineAt) -> None:
        self._session.hearing.hear_up_to(None, None)
        self._session.select(line_of=line_of, treatment_id="")
        self.harsh.hide()

    def _add(self, kind: str) -> None:
        line_of = self._line_of
        label_of = KINDS[kind].label.lower()
        if self._session.apply(
            f"add {label_of}", lambda loop: line_edits.add_treatment(loop, line_of, kind)
        ):
            added = self._session.loop.line_of(line_of)[-1]
            self._session.select(treatment_id=added.id)

    def copy_line(self) -> None:
        """Copy the whole line as text."""
        copy_line(self._session.loop.line_of(self._line_of))

    def paste(self) -> None:
        """Paste what was copied after the open card, or at the end."""
        session, line_of = self._session, self._line_of
        try:
            pasted = copied_line()
        except CloudriftError as error:
            session.say(str(error))
            return
        ids = [t.id for t in session.loop.line_of(line_of)]
        opened = session.selection.treatment_id
        at = ids.index(opened) + 1 if opened in ids else None
        session.apply(
            f"paste {plural(len(pasted), 'treatment')}",
            lambda loop: line_edits.insert_treatments(loop, line_of, pasted, at)[0],
        )

    def _swap(self, treatment_id: str) -> None:
        """Swap a card with the next one; both orders can then be compared."""
        session, line_of = self._session, self._line_of
        ids = [t.id for t in session.loop.line_of(line_of)]
        if len(ids) < 2:
            session.say("there is only one treatment; add another to swap it with")
            return
        at = ids.index(treatment_id)
        other = ids[at + 1] if at + 1 < len(ids) else ids[at - 1]
        before = session.document.history.moment
        if session.apply(
            "swap two treatments",
            lambda loop: line_edits.swap_treatments(loop, line_of, treatment_id, other),
        ):
            session.hearing.compare_with(before)

    def _dropped(self, treatment_id: str, y: float) -> None:
        """A card was let go at a height: it goes before the first card whose middle is below."""
        line_of = self._line_of
        ids = [row.treatment_id for row in self.rows]
        above = sum(
            row.geometry().center().y() < y for row in self.rows if row.treatment_id != treatment_id
        )
        by = above - ids.index(treatment_id)
        if by:
            self._session.apply(
                "move a treatment",
                lambda loop: line_edits.move_treatment(loop, line_of, treatment_id, by),
            )

    def _compare(self, against: object) -> None:
        self._session.hearing.compare(against)  # type: ignore[arg-type]

    # --- pages --------------------------------------------------------------------------------

    def show_line(self) -> None:
        """Show the descent."""
        self.pages.setCurrentIndex(0)
        self._ask_for_facts()

    def show_finishes(self) -> None:
        """Put the keyboard on the finishes for this line."""
        self.finishes_wanted.emit()
        self.finishes.enter()

    def show_pair(self) -> None:
        """Show two strips side by side."""
        self._refresh_pair()
        self.pages.setCurrentWidget(self.pair)
        self.pair.choices[0].setFocus()

    def _refresh_pair(self) -> None:
        self.pair.show_line(self._session.loop.line_of(self._line_of), self._owner().role)
        self._ask_for_pair()

    def _ask_for_pair(self) -> None:
        loop, line_of, engine = self._session.loop, self._line_of, self._session.engine
        steps = self.pair.steps
        self._tasks.run(
            "pair of strips",
            lambda _stop, _moved: [step_facts(engine, loop, line_of, count) for count in steps],
            lambda facts: self.pair.show_facts(*facts),
        )

    # --- find harsh ---------------------------------------------------------------------------

    def find_harsh(self) -> None:
        """Look for a narrow resonance in what leaves the line."""
        loop, line_of, engine = self._session.loop, self._line_of, self._session.engine
        self.harsh.show_looking()
        self._tasks.run(
            "find harsh",
            lambda _stop, _moved: harsh_in(engine, loop, line_of),
            self.harsh.show_found,
            lambda error: self._session.say(str(error)),
        )

    def _notch(self, found: Harsh) -> None:
        line_of = self._line_of
        if self._session.apply("a notch", lambda loop: line_edits.add_notch(loop, line_of, found)):
            self._session.select(treatment_id=self._session.loop.line_of(line_of)[-1].id)

    # --- showing ------------------------------------------------------------------------------

    def _show(self) -> None:
        session, loop, line_of = self._session, self._session.loop, self._line_of
        line = loop.line_of(line_of)
        opened = session.selection.treatment_id
        self.targets.show_loop(loop, line_of)
        owner = self._owner()
        self.title.setText(
            f"{owner.name}, {'from bare to ' if owner.part == LAYERS else ''}treated"
        )
        built = (line_of, owner.name, owner.role, opened, loop.ticks, loop.metre,
                 tuple((t.id, t.kind, t.known) for t in line))  # fmt: skip
        if built != self._built:
            self._built = built
            self._build(loop, owner, opened)
        for row, treatment in zip(self.rows, line, strict=True):
            row.show_treatment(treatment)
        self.compares.button("card").setEnabled(bool(opened))
        self.compares.show_choice(session.hearing.against if session.hearing.then is None else None)
        if self.pages.currentWidget() is self.pair:
            self._refresh_pair()
        self.blend.show_line()
        self._show_heard()
        self._show_loudness()

    def _build(self, loop: Loop, owner: Owner, opened: str) -> None:
        holder, focused = self._scroll.widget(), QApplication.focusWidget()
        had_focus = holder is not None and focused is not None and holder.isAncestorOf(focused)
        at = next(
            (
                row.treatment_id
                for row in self.rows
                if row is focused or (focused is not None and row.isAncestorOf(focused))
            ),
            opened,
        )
        clear(self._list)
        self._bare = BareRow(owner.role, BARE_WORDS[owner.part], bare=owner.part == LAYERS)
        self._list.addWidget(self._bare)
        self.rows, self.strips = [], [self._bare.strip]
        self._facts = {}
        for treatment in loop.line_of(owner.id):
            row = TreatmentRow(
                self._session, owner.id, treatment, owner.role, open_=treatment.id == opened
            )
            row.dropped.connect(partial(self._dropped, treatment.id))
            row.swap_wanted.connect(partial(self._swap, treatment.id))
            self.rows.append(row)
            self.strips.append(row.strip)
            fill(self._list, Link(owner.role), row)
        if not self.rows:
            empty = label(
                "No treatments yet: add one below, or use a finish; you hear it at once.",
                size=12,
                name="soft",
            )
            empty.setContentsMargins(12, 14, 0, 0)
            self._list.addWidget(empty)
        self._list.addStretch(1)
        for count, strip in enumerate(self.strips):
            strip.pressed.connect(lambda n=count: self._press(n))
        if had_focus:  # the rows are new: the keyboard stays where it was
            same = [row for row in self.rows if row.treatment_id == at]
            (same[0] if same else self.targets.buttons[owner.id]).setFocus()
        self.show_place(self._share)
        self._ask_for_facts()

    def _ask_for_facts(self) -> None:
        """Measure every step again, and draw the open card's portrait."""
        if not self.isVisible():
            return
        loop, line_of, engine = self._session.loop, self._line_of, self._session.engine
        for count in range(len(self.strips)):
            self._tasks.run(
                f"step {count}",
                facts_work(engine, loop, line_of, count),
                partial(self._show_facts, line_of, loop.line_of(line_of), count),
            )
        for count, row in enumerate(self.rows):
            if row.portrait is not None:
                treatment = loop.line_of(line_of)[count]
                context = step_context(loop, line_of, count)
                self._tasks.run(
                    "portrait",
                    portrait_work(treatment, context),
                    partial(self._show_portrait, treatment.id),
                )
        if self.pages.currentWidget() is self.pair:
            self._ask_for_pair()

    def _show_portrait(self, treatment_id: str, made: Portrait | None) -> None:
        for row in self.rows:  # the row that asked may be gone by now
            if row.treatment_id == treatment_id and row.portrait is not None:
                row.portrait.show_portrait(made)

    def _show_facts(self, line_of: LineAt, line: Line, count: int, facts: StepFacts) -> None:
        """Show what was measured of a step, if what was asked about is still there and shown."""
        loop = self._session.loop
        there = line_of is None or line_of in loop.ids
        if line_of != self._line_of or not there or loop.line_of(line_of) != line:
            return
        self._facts[count] = facts
        if count == 0 and self._bare is not None:
            self._bare.show_facts(facts)
        elif count <= len(self.rows) and count - 1 in self._facts:
            self.rows[count - 1].show_facts(line[count - 1], self._facts[count - 1], facts)

    def showEvent(self, event: object) -> None:
        self._ask_for_facts()

    def _press(self, count: int) -> None:
        whole = count == len(self.strips) - 1
        already = self._session.hearing.heard_up_to == (self._line_of, count)
        self._session.hearing.hear_up_to(self._line_of, None if whole or already else count)

    def _show_heard(self) -> None:
        up_to = self._session.hearing.heard_up_to
        count = up_to[1] if up_to and up_to[0] == self._line_of else None
        for i, strip in enumerate(self.strips):
            strip.show_heard(count == i, count is not None and i > count)
        session = self._session
        self.compares.show_choice(session.hearing.against if session.hearing.then is None else None)

    def _show_loudness(self) -> None:
        session = self._session
        treated, bare = (session.hearing.loudness.get(name) for name in (TREATED, BARE))
        if treated is None or bare is None:
            return
        hearing = session.hearing
        one, other = hearing.sides
        words = (
            f"{other}: {number(treated.lufs, '.1f')} LUFS, peak "
            f"{number(treated.true_peak_db, '.1f')} dBTP · {one.lower()}, {hearing.compared}: "
            f"{number(bare.lufs, '.1f')} LUFS; {hearing.match_words}"
        )
        self.treated.setText(words)

    @staticmethod
    def commands() -> tuple[Command, ...]:
        """What can be done here, for the menus."""
        here = TextureStage
        return (
            Command("&Finishes", here.show_finishes, "F3", goes=True),
            Command("&Two strips side by side", here.show_pair, goes=True),
            Command("Find &harsh resonance", here.find_harsh, goes=True),
            Command("&Copy the line", here.copy_line, goes=True),
            Command("&Paste treatments", here.paste, goes=True),
        )

    def focus_first(self) -> None:
        """Put the keyboard where the work is."""
        self.targets.buttons[self._line_of].setFocus()

    def show_place(self, share: float) -> None:
        """Move the playhead on all strips."""
        self._share = share
        if self._bare is not None:
            self._bare.strip.show_place(share)
        for row in self.rows:
            row.show_place(share)
        self.pair.show_place(share)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        shift = held(event).shift
        if event.matches(QKeySequence.StandardKey.Paste):
            self.paste()
        elif event.key() == Qt.Key.Key_C and shift and (held(event).ctrl):
            self.copy_line()
        elif event.key() == Qt.Key.Key_B and shift:
            self.show_pair()
        else:
            super().keyPressEvent(event)
