"""The line for all of the arrangement: which, how hard it is pushed, and what that does."""

from collections.abc import Callable

from PyQt6.QtWidgets import QWidget

from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.flow import Flow, takes_rest
from cloudrift.desktop.kit.parts import ChoiceRow, Elided, label
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.arranged import Arranged
from cloudrift.ground.settings import Field
from cloudrift.ground.words import number
from cloudrift.loop.edits.arranging.arranging import arrange
from cloudrift.loop.model.document import Document
from cloudrift.style.sums import MOST_PUSH_DB, NOTHING, OWN, PUSH_DB, SUMS, sum_line, sum_of

WHAT = Field(name="what", label="Master chain", default=NOTHING, choices=(NOTHING, *SUMS))
WORDS_PX = 150  # that they have at least
PUSH = Field(
    name="push_db",
    label="Push",
    default=PUSH_DB,
    unit="dB",
    low=0,
    high=MOST_PUSH_DB,
    step=0.5,
    hint="gain into the limiter at its end",
)


class SumRow(QWidget):
    """Fields, and a switch that lets it be heard with the line and without, equally loud."""

    def __init__(self, session: Session, arranged: Arranged, edit: Callable[..., bool]) -> None:
        super().__init__()
        self._arranged, self._edit = arranged, edit
        self.what = FieldWidget(WHAT, WHAT.default)
        self.push = FieldWidget(PUSH, PUSH.default)
        self.what.edited.connect(lambda what: self._set(str(what), self._push_db))
        self.push.edited.connect(lambda push: self._set(self._what, float(str(push)), moving=True))
        self.push.settled.connect(session.end_drag)
        self.words = Elided(size=11.5, name="soft")
        self.side = ChoiceRow([(True, "without"), (False, "with")], columns=2, name="Compare")
        self.side.chosen.connect(lambda without: arranged.hear_without(without=bool(without)))
        self.side.setToolTip("Without and with the master chain, loudness matched")
        takes_rest(self.words, WORDS_PX)
        row = Flow(self, spacing=6)
        for one in (self.what, self.push, label("Compare", size=11.5, name="soft"), self.side,
                    self.words):  # fmt: skip
            row.addWidget(one)
        self._what, self._push_db = NOTHING, PUSH_DB

    def show_document(self, document: Document) -> None:
        """Show the line that an arrangement has."""
        line, there = document.arrangement.line, bool(document.arrangement.sections)
        self._what, self._push_db = sum_of(line)
        self.what.set_value(self._what)
        self.push.set_value(self._push_db)
        self.push.setEnabled(there and self._what in SUMS)
        self.what.setEnabled(there)
        self.side.setEnabled(bool(line))
        self.show_loudness()

    @property
    def says(self) -> str:
        """The line in words."""
        words = self.words.text()
        return f"{self._what}, {words}" if words else str(self._what)

    def show_loudness(self) -> None:
        """Say how loud all is before its line and after it, as far as that is known."""
        found = self._arranged.sum_loudness
        self.side.show_choice(self._arranged.without)
        if self._what == NOTHING:
            self.words.setText(f"{_lufs(found[1].lufs)}" if found else "")
        elif found is None:
            self.words.setText("loudness is known once it is rendered")
        else:
            before, after = found
            self.words.setText(
                f"{number(before.lufs, '.1f')} to {_lufs(after.lufs)}, "
                f"peak {number(after.true_peak_db, '.1f')} dBTP"
            )

    def _set(self, what: str, push_db: float, *, moving: bool = False) -> None:
        if what != OWN:
            line = sum_line(what, push_db)
            self._edit(
                "the master chain", lambda document: arrange(document, line=line), moving=moving
            )


def _lufs(value: float) -> str:
    return f"{number(value, '.1f')} LUFS"
