"""Three forms, built as somebody would who has never seen the stage; each action is counted."""

import pytest
from PyQt6.QtCore import QCoreApplication, QPoint, Qt
from PyQt6.QtTest import QTest

from cloudrift.loop.edits.arranging.arranging import relative_of
from cloudrift.loop.edits.arranging.differences import differences
from cloudrift.loop.edits.arranging.section_loops import heard_in
from cloudrift.loop.model.bed import hits_of
from cloudrift.loop.model.document import Document
from cloudrift.style.form import over_line, slower_st
from cloudrift.style.variations import variations
from tests.hands import settled
from tests.test_arranging import BEDDED
from tests.test_journeys import ALT, CTRL, Hand

LANES = {lane.id for lane in BEDDED.lanes}
LOW = {lane.id for lane in BEDDED.lanes if hits_of(lane).on_roots}
PERCUSSION = {lane.id for lane in BEDDED.lanes if lane.id not in LOW}


class ArrangingHand(Hand):
    """Presses in the picture by section and row, and chooses from fields and lists."""

    def __init__(self, qtbot, window):
        super().__init__(qtbot, window)
        self.stage = window.arrange

    @property
    def sections(self):
        return self._window.session.document.history.now.arrangement.sections

    def head(self, at):
        columns = self.stage.columns
        self.press(columns, QPoint(round(columns.model.x_of(at, 0.4)), 75))

    def band(self, at, owner):
        model = self.stage.columns.model
        row = next(i for i, one in enumerate(model.rows) if one.id == owner)
        top, high = model.row_box(row)
        self.press(self.stage.columns,
                   QPoint(round(model.x_of(at, 0.4)), round(top + high / 2)))  # fmt: skip

    def seam(self, at):
        self.press(self.stage.columns, QPoint(round(self.stage.columns.model.seam_x(at)), 75))

    def choose(self, field, choice):
        """Open a field's list and take one: two presses."""
        assert field.isVisible() and field.isEnabled() and choice in field.spec.choices
        self.count += 2
        field._choose(choice)

    def number(self, field, value):
        """Type a value into a field: the press, the value, Enter."""
        self.press(field)
        field.setFocus()
        self.count += 2
        QTest.keyClicks(field, value)
        QTest.keyClick(field._editor, Qt.Key.Key_Return)

    def name(self, words):
        """Type a name in the place of the one there is."""
        self.press(self.stage.page.name, None, True)
        self.stage.page.name.selectAll()
        self.count += 2
        QTest.keyClicks(self.stage.page.name, words)
        QTest.keyClick(self.stage.page.name, Qt.Key.Key_Return)

    def form(self, name):
        """Press the tile of a form."""
        QCoreApplication.processEvents()
        self.press(next(x for x in self.stage.lead.tiles if x.text() == name.capitalize()))

    def button(self, words):
        QCoreApplication.processEvents()  # what was put up last is shown
        places = (self.stage, self.stage.inspector)
        self.press(
            next(
                b
                for place in places
                for b in place.findChildren(type(self.stage.variation))
                if b.text() == words and b.isVisible()
            )
        )


@pytest.fixture
def hand(qtbot, window):
    window.session.document.open(Document.of(BEDDED), None)
    settled(qtbot, window.session)
    made = ArrangingHand(qtbot, window)
    made.key(Qt.Key.Key_6, ALT)
    return made


def heard(hand, at):
    return {x.id for x in heard_in(BEDDED, hand.sections[at])}


def made_whole(qtbot, hand):
    hand.press(hand.stage.heard.button("all"))
    qtbot.waitUntil(lambda: hand.stage.arranged.on and not hand.stage.arranged.busy, timeout=60_000)


def test_an_intro_from_the_verse_a_hook_in_two_halves_and_again_with_one_change(qtbot, hand):
    """Drawn in 3 actions; the same by hand, with nothing but what the screen says."""
    hand.form("intro from the verse")
    made_whole(qtbot, hand)
    assert hand.count == 3
    names = [one.name for one in hand.sections]
    assert names[0] == "Intro" and not heard(hand, 0) & LANES
    assert heard(hand, 1) & LANES and not heard(hand, 1) & LOW  # scattered percussion
    first, second = names.index("Hook, first half"), names.index("Hook, second half")
    assert not heard(hand, first) & LOW and heard(hand, second) & LOW
    document = hand._window.session.document.history.now
    again = hand.sections[names.index("Hook again")]
    assert len(differences(document, again.id)) >= 1


def test_the_same_by_hand(qtbot, hand):
    hand.button("Add a section")  # all of it: the hook's second half
    hand.name("Hook, second half")
    hand.button("Duplicate")
    hand.name("Hook, first half")
    hand.key(Qt.Key.Key_Escape)
    hand.button("Earlier")
    for lane in sorted(LOW):
        hand.band(0, lane)
    hand.button("Add")
    hand.name("Verse")
    hand.band(2, "l3")
    hand.band(2, "l4")
    hand.button("Duplicate")
    hand.name("Intro")
    hand.choose(hand.stage.page.fields["bed"], "off")
    for _ in range(3):
        hand.button("Earlier")
    hand.head(2)
    hand.button("Duplicate")
    hand.name("Hook again")
    hand.button("Later")
    document = hand._window.session.document.history.now
    hand.button(variations(document, hand.sections[4])[0].words)
    document = hand._window.session.document.history.now
    assert len(differences(document, hand.sections[4].id)) == 1
    assert [one.name for one in hand.sections] == [
        "Intro", "Hook, first half", "Hook, second half", "Verse", "Hook again",
    ]  # fmt: skip
    assert not heard(hand, 0) & LANES and heard(hand, 0) == heard(hand, 3) - LANES
    assert heard(hand, 1) == heard(hand, 2) - LOW
    made_whole(qtbot, hand)
    assert hand.count <= 45, hand.count


def test_slowed_at_first_cut_at_the_last_backbeat_an_underwater_break_and_a_sweep_down(qtbot, hand):
    hand.form("slow in and sweep out")
    assert [slower_st(one.line) for one in hand.sections[:2]] == [5, 0]
    hook = hand.sections[1].seam
    assert hook.cut and hook.silence_beats == 2
    assert over_line("underwater") in [one.over for one in hand.sections]
    assert hand.sections[-1].seam.sweep == "closes"
    hand.seam(1)  # a whole bar of nothing rather than half of one, and more of a riser
    hand.number(hand.stage.seam.fields["silence_beats"], "1")
    hand.press(hand.stage.seam.hear)
    qtbot.waitUntil(lambda: bool(hand.stage.arranged.made), timeout=60_000)
    assert hand.sections[1].seam.silence_beats == 1
    assert hand.count == 7


def test_three_hooks_a_sub_outro_and_a_turn_to_the_relative_key(qtbot, hand):
    hand.form("three hooks")
    assert len(heard(hand, 0) - LANES) < len(heard(hand, 2) - LANES)
    assert heard(hand, 0) < heard(hand, 1)
    outro = hand.sections[3]
    bass = {x.id for x in BEDDED.layers if x.role == "bass"}
    assert bass & heard(hand, 3) and len(heard(hand, 3) - LANES) < len(heard(hand, 2) - LANES)
    assert all(part.pattern == "Bare" for part in outro.parts if part.id in LANES and part.on is
               None)  # fmt: skip
    assert hand.sections[4].key == relative_of(BEDDED.key)
    hand.head(4)
    hand.key(Qt.Key.Key_Left, CTRL)  # the turn before the outro
    assert [one.name for one in hand.sections][-2:] == ["Switch", "Sub outro"]
    made_whole(qtbot, hand)
    assert hand.count == 5
