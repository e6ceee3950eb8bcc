"""Input, and which finish a new layer gets."""

from cloudrift.desktop.kit.choice_box import ChoiceBox
from cloudrift.devices.microphone import STAND_IN, microphones
from cloudrift.texture.finish import Finish
from cloudrift.texture.finish_files import house_finishes, own_finishes

SYSTEM = "the system's microphone"
BARE_LINE = "no treatments"
TAG = "recording"
READY = "Guide vocal"


class SourceChoice(ChoiceBox):
    """The microphones that there are, and the stand-in."""

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Microphone")

    @property
    def chosen(self) -> str:
        """The name of the one that is chosen; none for the system's own."""
        return str(self.currentData())

    def fill(self, wanted: str) -> None:
        """Look which there are now, and choose one by name."""
        names = microphones()
        self.clear()
        if names:
            self.addItem(SYSTEM, "")
            for name in names:
                self.addItem(name, name)
        self.addItem(STAND_IN, STAND_IN)
        self.setCurrentIndex(max(0, self.findData(wanted)))
        self.setEnabled(self.count() > 1)
        self.setToolTip("Input" if names else "No microphone was found: a stand-in singer records")


class FinishChoice(ChoiceBox):
    """The finishes that are for recordings, and those of one's own."""

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Treatments for a new layer")
        self.setToolTip("The treatment line of a new layer; change it in Texture")

    @property
    def finish(self) -> Finish | None:
        """The one that is chosen."""
        found = self.currentData()
        return found if isinstance(found, Finish) else None

    def fill(self) -> None:
        """Look which there are now; what is chosen stays."""
        chosen = self.currentText() or READY
        mine, _wrong = own_finishes()
        fits = [one for one in house_finishes() if TAG in one.tags or "voices" in one.tags]
        self.clear()
        self.addItem(BARE_LINE, None)
        for one in (*fits, *mine):
            self.addItem(one.name, one)
        self.setCurrentIndex(max(0, self.findText(chosen)))
