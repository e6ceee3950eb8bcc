"""The trial voice: sung over all of it, a take chosen, turned, let go."""

from collections.abc import Callable

from PyQt6.QtWidgets import QWidget

from cloudrift.desktop.kit.choice_box import ChoiceBox
from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.flow import Flow
from cloudrift.desktop.kit.parts import button, label, small_button
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.stages.arrange.voice_taker import VoiceTaker
from cloudrift.ground.settings import Field
from cloudrift.loop.edits.arranging.arranging import arrange, forget_take, set_take
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.sections import MOST_OFFSET_DB

LEVEL = Field(
    name="gain_db", label="Level", default=0, unit="dB", low=-60, high=MOST_OFFSET_DB, step=0.5
)
NO_TAKE = "none"


class VoiceRow(QWidget):
    """Takes are kept in the file with the arrangement, and are never in what is delivered."""

    def __init__(
        self,
        session: Session,
        taker: VoiceTaker,
        edit: Callable[..., bool],
        chosen: Callable[[], int],
    ) -> None:
        super().__init__()
        self._taker, self._edit, self._chosen = taker, edit, chosen
        self._take_id = ""
        self.sing = button(
            "Record",
            self._swap,
            tip="Record over the arrangement from the selected section on. A guide only: never "
            "exported",
        )
        self.take = ChoiceBox("Take of the guide vocal")
        self.take.activated.connect(self._choose)
        self.level = FieldWidget(LEVEL, 0.0)
        self.level.edited.connect(self._set_level)
        self.level.settled.connect(session.end_drag)
        self.forget = small_button("Delete", self._forget, tip="Delete this take")
        self.words = label("", size=11.5, name="soft")
        row = Flow(self, spacing=6)
        for widget in (label("Guide vocal", size=11.5, name="soft"), self.sing, self.take,
                       self.level, self.forget, self.words):  # fmt: skip
            row.addWidget(widget)
        taker.moved.connect(self._show_taking)

    @property
    def says(self) -> str:
        """The take that is heard, in words."""
        return f"guide vocal: {self.take.currentText()}"

    def show_document(self, document: Document) -> None:
        """Show which take is heard."""
        arrangement = document.arrangement
        take = arrangement.take
        self._take_id = take.id if take else ""
        names = [(NO_TAKE, ""), *((one.name, one.id) for one in arrangement.takes)]
        self.take.clear()
        for name, take_id in names:
            self.take.addItem(name, take_id)
        self.take.setCurrentIndex(max(0, self.take.findData(self._take_id)))
        self.take.setEnabled(bool(arrangement.takes))
        self.level.set_value(take.gain_db if take else 0.0)
        for widget in (self.level, self.forget):
            widget.setEnabled(take is not None)
        self.sing.setEnabled(bool(arrangement.sections))
        self._show_taking()

    def _show_taking(self) -> None:
        taking = self._taker.taking
        self.sing.setText("Stop recording" if taking else "Record")
        self.words.setText("recording; use headphones" if taking else "")

    def _swap(self) -> None:
        if self._taker.taking:
            self._taker.finish()
        else:
            self._taker.begin(self._chosen())

    def _choose(self, at: int) -> None:
        voice = str(self.take.itemData(at))
        self._edit("take of the guide vocal", lambda document: arrange(document, voice=voice))

    def _set_level(self, value: object) -> None:
        take_id, gain_db = self._take_id, float(str(value))
        self._edit(
            "level of the guide vocal",
            lambda document: set_take(document, take_id, gain_db=gain_db),
            moving=True,
        )

    def _forget(self) -> None:
        take_id = self._take_id
        self._edit("delete a take", lambda document: forget_take(document, take_id))
