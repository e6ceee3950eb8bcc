"""Pictures that are kept as painted: when they are painted again, and what a frame costs."""

import pytest

from cloudrift.desktop.kit import look
from cloudrift.desktop.kit.still import Still, paint_playhead, playhead_moved


class Counted(Still):
    """A picture that counts how often it is painted, and has a line that moves."""

    def __init__(self):
        super().__init__()
        self.x, self.painted, self.moved = 10.0, 0, 0

    def paint_still(self, painter):
        self.painted += 1
        painter.fillRect(self.rect(), look.color("card"))

    def paint_moving(self, painter):
        self.moved += 1
        paint_playhead(painter, self.x, 0, self.height())

    def go(self, x):
        before, self.x = self.x, x
        playhead_moved(self, before, x)


@pytest.fixture
def picture(app, qtbot):
    made = Counted()
    qtbot.addWidget(made)
    made.resize(100, 40)
    made.show()
    qtbot.waitExposed(made)
    app.processEvents()
    return made


def test_a_playhead_costs_no_more_than_its_line(app, picture):
    before, moved = picture.painted, picture.moved
    for x in (20.0, 30.0, 40.0):
        picture.go(x)
        app.processEvents()
    assert picture.painted == before and picture.moved == moved + 3
    shown = picture.grab().toImage()
    assert shown.pixelColor(40, 20) == look.color("signal")
    assert shown.pixelColor(30, 20) == shown.pixelColor(70, 20) == look.color("card")


@pytest.mark.parametrize("change", ["update", "size", "theme", "focus"])
def test_it_is_painted_again_for_what_it_shows(app, picture, change):
    before, was = picture.painted, look.look.name
    acts = {
        "update": picture.update,
        "size": lambda: picture.resize(120, 40),
        "theme": lambda: look.apply(
            app, "Nightfall" if look.look.name == "Daybreak" else "Daybreak"
        ),
        "focus": lambda: (picture.activateWindow(), picture.setFocus()),
    }
    acts[change]()
    app.processEvents()
    picture.grab()
    assert picture.painted == before + 1
    look.apply(app, was)
