"""From given chords to five layers that are not in each other's way, as a newcomer would do it."""

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QLabel, QMenu

from cloudrift.desktop.stages.layers.notes.places import TOP
from tests.hands import settled

LEFT = Qt.MouseButton.LeftButton


class Hand:
    """Presses and keys, counted."""

    def __init__(self, qtbot):
        self.qtbot, self.count = qtbot, 0

    def press(self, widget, place=None, *, double=False, keys=Qt.KeyboardModifier.NoModifier):
        self.count += 1
        act = self.qtbot.mouseDClick if double else self.qtbot.mouseClick
        act(widget, LEFT, keys, place or QPoint())

    def key(self, widget, key, keys=Qt.KeyboardModifier.NoModifier):
        self.count += 1
        self.qtbot.keyClick(widget, key, keys)

    def choose(self, menu, *words):
        """Go through a menu: a press for each level."""
        for word in words:
            self.count += 1
            action = next(a for a in menu.actions() if a.text().startswith(word))
            if action.menu() is not None:
                menu = action.menu()
        action.trigger()


@pytest.fixture
def given(window, bare_chords, qtbot):
    """A loop with four chords and no layers."""
    window.session.document.open(bare_chords, None, unsaved=True)
    window.show_stage(1)
    settled(qtbot, window.session)
    return window


def add(hand, window, family, sound):
    hand.count += 1  # the button that opens the menu
    menu = window.layers.add.menu()
    assert isinstance(menu, QMenu)
    hand.choose(menu, family, sound)
    return window.session.selection.layer_id


def test_five_layers_in_their_own_places_in_under_sixty_actions(given, qtbot):
    window, session = given, given.session
    hand, view = Hand(qtbot), window.layers.notes
    inspector, room = window.layers.inspector, window.layers.room

    assert any("No layers yet" in one.text() for one in window.layers.findChildren(QLabel))
    keys = add(hand, window, "Keys", "Felt upright")
    pad = add(hand, window, "Pads", "Warm pad")
    assert session.loop.layer(pad).source.lens.kind == "held"
    assert session.loop.layer(pad).source.lens.skip_bass

    pluck = add(hand, window, "Plucks", "Muted pluck")
    field = inspector.fields["lens voices"]
    hand.press(field)
    hand.key(field, Qt.Key.Key_2)
    hand.key(field._editor, Qt.Key.Key_Return)
    assert session.loop.layer(pluck).source.lens.text == "arpeggiates the top 2 voices, no bass"
    hand.press(view.follow)  # let go, to rub two notes by a half step
    for tick in (7680 - 480, 4 * 7680 - 480):
        note = next(n for n in view.moves.notes if n.start_tick == tick)
        hand.press(view.grid, view.grid.places.box(note).center().toPoint())
        hand.key(view.grid, Qt.Key.Key_Up, Qt.KeyboardModifier.ShiftModifier)
    outside = [n for n in session.loop.layer(pluck).own if not session.loop.key.has(n.pitch)]
    assert len(outside) >= 1

    lead = add(hand, window, "Leads", "Soft lead")
    hand.press(inspector.lens.button("line"))
    hand.count += 2  # the field and its choice
    inspector.fields["lens answers"]._choose("after the middle of a chord")
    assert session.loop.layer(lead).source.lens.text == "a line that answers the chords"

    sub = add(hand, window, "Bass", "Round sub")
    place = QPoint(round(view.grid.places.at_x(3 * 3840 + 100)), TOP - 6)
    hand.press(view.grid, place, double=True)
    assert session.loop.layer(sub).source.lens.late_bars == (3,)
    assert session.loop.layer(sub).source.lens.kind == "bass"

    five = {keys, pad, pluck, lead, sub}

    def looked():
        settled(qtbot, session)
        qtbot.waitUntil(
            lambda: room.room is not None and set(room.room.levels) == five, timeout=60_000
        )

    looked()
    for _ in range(8):
        worst = room._worst()
        if worst is None:
            break
        # Whoever plays higher of the two is thinned out below; above, the pad gives way.
        above = pad in worst.layers and worst.low_hz > 1000
        other = pad if above else next(x for x in worst.layers if x != pad)
        if session.selection.layer_id != other:
            hand.press(window.layers.rows[other].name)
        found = room.room
        hand.press(room.helps["Cut"])
        qtbot.waitUntil(lambda before=found: room.room is not before, timeout=60_000)
        looked()
    assert room.room.crowded == ()
    assert room.words.text() == "no crowding"
    assert hand.count < 60, hand.count
