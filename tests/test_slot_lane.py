"""The lane of a step effect's slots, in its card on the Texture stage."""

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QWheelEvent
from PyQt6.QtTest import QTest

from cloudrift.loop.edits.layers import line_edits
from cloudrift.texture.kinds.slots import USUAL, WHAT, shape_of
from tests.hands import drag, settled


@pytest.fixture
def lane(qtbot, window):
    session = window.session
    window.show_stage(2)
    session.apply("slots", lambda loop: line_edits.add_treatment(loop, "l1", "slots"))
    treatment = session.loop.layer("l1").line[-1].id
    session.select(layer_id="l1", line_of="l1", treatment_id=treatment)
    settled(qtbot, session)
    return next(row.slots for row in window.texture.rows if row.slots is not None)


def slots(window):
    full = window.session.loop.layer("l1").line[-1].full
    return [full.word(f"slot_{i + 1}") for i in range(8)]


def middle(lane, at):
    return lane.box(at).center().toPoint()


def test_a_slot_is_pressed_on_forth_and_back_as_one_step_each(qtbot, window, lane):
    assert slots(window) == list(USUAL)
    qtbot.mouseClick(lane, Qt.MouseButton.LeftButton, pos=middle(lane, 0))
    assert slots(window)[0] == WHAT[1] and lane.accessibleName() == f"Slot 1: {WHAT[1]}"
    qtbot.mouseClick(lane, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ShiftModifier,
                     middle(lane, 0))  # fmt: skip
    qtbot.mouseClick(lane, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ShiftModifier,
                     middle(lane, 0))  # fmt: skip
    assert slots(window)[0] == WHAT[-1]  # round the end
    for _ in range(3):
        window.session.document.undo()
    assert slots(window) == list(USUAL)
    assert lane._values == list(USUAL)


def test_what_a_slot_does_is_dragged_over_others(qtbot, window, lane):
    drag(qtbot, lane, middle(lane, 3), middle(lane, 6))
    assert slots(window) == [*USUAL[:3], *4 * ("backward",), USUAL[7]]


def test_keys_and_the_wheel_choose_and_change(window, lane):
    lane.setFocus()
    for key in (Qt.Key.Key_Right, Qt.Key.Key_Right, Qt.Key.Key_Down):
        QTest.keyClick(lane, key)
    assert slots(window)[2] == WHAT[1] and lane.at == 2
    QTest.keyClick(lane, Qt.Key.Key_Up)
    assert slots(window)[2] == WHAT[0]
    at = QPointF(middle(lane, 0))
    wheel = QWheelEvent(at, QPointF(lane.mapToGlobal(QPoint())), QPoint(), QPoint(0, -120),
                        Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier,
                        Qt.ScrollPhase.NoScrollPhase, False)  # fmt: skip
    lane.wheelEvent(wheel)
    assert slots(window)[2] == WHAT[1]


@pytest.mark.parametrize(("what", "says"), [
    ("as it is", lambda level: np.all(np.diff(level) < 0)),
    ("backward", lambda level: np.all(np.diff(level) > 0)),
    ("stutter", lambda level: np.sum(np.diff(level) > 0.2) == 3),
    ("octave up", lambda level: np.sum(np.diff(level) > 0.2) == 1),
    ("slow", lambda level: level[-1] > 0.2),
    ("silence", lambda level: level.max() == 0),
])  # fmt: skip
def test_what_is_drawn_of_a_slot_is_what_it_does(what, says):
    assert says(shape_of(what, 64)[0])
    assert shape_of(what, 64)[1] == 1 and shape_of("narrow", 64)[1] < 1
