"""What happens at the change into the chosen section: fields of what is in use, and more to add."""

from collections.abc import Callable
from functools import partial

from PyQt6.QtWidgets import QFrame, QMenu, QPushButton, QWidget

from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.flow import Flow
from cloudrift.desktop.kit.layouts import fill, horizontal, vertical
from cloudrift.desktop.kit.look import SEMI
from cloudrift.desktop.kit.own_words import why
from cloudrift.desktop.kit.parts import Elided, button
from cloudrift.desktop.session.session import Session
from cloudrift.ground.settings import Field
from cloudrift.loop.edits.arranging import arranging
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.sections import Section

ON, OFF = "on", "off"
FIELDS = {
    f.name: f
    for f in (
        Field(
            name="riser_bars",
            label="Riser",
            default=0,
            unit="bars",
            low=0,
            high=16,
            step=0.5,
            off_low=True,
        ),
        Field(name="riser_db", label="Riser to", default=-27, unit="dB", low=-60, high=0, step=0.5),
        Field(
            name="sweep",
            label="Filter",
            default=OFF,
            choices=(OFF, "closes", "opens"),
            hint="the filter closes before the change, or opens after it",
        ),
        Field(
            name="sweep_bars",
            label="Filter over",
            default=2,
            unit="bars",
            low=0.25,
            high=16,
            step=0.25,
        ),
        Field(
            name="fill",
            label="Fill",
            default=OFF,
            choices=(OFF, ON),
            hint="the drums play the last bar of pattern B",
        ),
        Field(
            name="cut",
            label="Drums stop",
            default=OFF,
            choices=(OFF, ON),
            hint="after their last backbeat, which rings out",
        ),
        Field(
            name="silence_beats",
            label="Silence before",
            default=0,
            unit="beats",
            low=0,
            high=16,
            step=0.5,
            off_low=True,
        ),
        Field(
            name="lead_beats",
            label="Pickup",
            default=0,
            unit="beats",
            low=0,
            high=8,
            step=0.5,
            off_low=True,
            hint="what follows, reversed, up to the change",
        ),
        Field(
            name="sag_beats",
            label="Tempo drop",
            default=0,
            unit="beats",
            low=0,
            high=16,
            step=0.5,
            off_low=True,
            hint="like tape: the pitch drops too",
        ),
        Field(name="sag_share", label="to", default=60, unit="%", low=25, high=100),
        Field(
            name="crash_db",
            label="Crash",
            default=-60,
            unit="dB",
            low=-60,
            high=0,
            step=0.5,
            off_low=True,
        ),
        Field(
            name="tag_db",
            label="Tag",
            default=-60,
            unit="dB",
            low=-60,
            high=0,
            step=0.5,
            off_low=True,
        ),
        Field(
            name="burst_db",
            label="Burst",
            default=-60,
            unit="dB",
            low=-60,
            high=0,
            step=0.5,
            off_low=True,
        ),
    )
}
COLUMNS = 5
SWITCHES = {"fill", "cut"}
# What is said of each that can be added, and what it is at first.
ADDED: dict[str, tuple[str, object]] = {
    "riser_bars": ("A riser", 2.0),
    "sweep": ("A filter that closes or opens", "closes"),
    "fill": ("A fill of the drums", ON),
    "cut": ("Drums that stop early", ON),
    "silence_beats": ("Silence before it", 1.0),
    "lead_beats": ("A reversed pickup", 1.0),
    "sag_beats": ("A tempo drop", 2.0),
    "crash_db": ("A crash", -18.0),
    "tag_db": ("A tag", -18.0),
    "burst_db": ("A burst of noise", -18.0),
}
WITH = {"riser_db": "riser_bars", "sweep_bars": "sweep", "sag_share": "sag_beats"}
FIRST = ("sweep", "crash_db", "tag_db")  # what can be where a first section begins


class SeamFields(QFrame):
    """``edit`` takes words and an edit of the document; ``hear`` plays the bars around."""

    def __init__(
        self, session: Session, edit: Callable[..., bool], hear: Callable[[], object]
    ) -> None:
        super().__init__()
        self.setObjectName("card")
        self._edit = edit
        self._section_id = ""
        self._first = False  # whether it is where the first section begins
        self.title = Elided(size=12.5, weight=SEMI)
        self.says = Elided(size=11.5, name="soft")
        self.hear = button("Play it", hear, tip="From two bars before the change")
        self.add = QPushButton("Add…")
        self.add.setToolTip("Something else to happen at this change")
        self._menu = QMenu(self.add)
        self._menu.aboutToShow.connect(self._fill_menu)
        self.add.setMenu(self._menu)
        self.fields: dict[str, FieldWidget] = {}
        self._shown: set[str] = set()  # fields of this change: they stay while it is chosen
        inside = QWidget()
        line = Flow(inside, spacing=5, even=True, columns=COLUMNS)
        for name, field in FIELDS.items():
            widget = FieldWidget(field, field.default)
            widget.edited.connect(partial(self._set, name))
            widget.settled.connect(session.end_drag)
            self.fields[name] = widget
            line.addWidget(widget)
        column = vertical(self, (10, 6, 10, 8), 5)
        head = horizontal()
        fill(head, (self.title, 1), (self.says, 1), why("seam"), self.add, self.hear)
        fill(column, head, inside)

    def show_section(self, document: Document, section: Section | None) -> None:
        """Show the change into a section."""
        if section is None:
            return
        if section.id != self._section_id:
            self._shown = set()
        self._section_id = section.id
        sections = document.arrangement.sections
        at = sections.index(section)
        before = sections[at - 1].name if at else ""
        self.title.setText(f"{before} into {section.name}" if at else f"{section.name} begins")
        self.says.setText(
            ", ".join(section.seam.happens) or "nothing happens here"
            if at
            else "nothing can happen before the first section"
        )
        self.hear.setEnabled(at > 0)
        for name, widget in self.fields.items():
            value = getattr(section.seam, name)
            if name in SWITCHES:
                value = ON if value else OFF
            elif name == "sweep":
                value = value or OFF
            elif name == "sag_share":
                value = 100 * value
            widget.set_value(value)
            if name not in WITH and value != FIELDS[name].default:
                self._shown.add(name)
        self._first = at == 0
        self._show_fields()

    def _show_fields(self) -> None:
        for name, widget in self.fields.items():
            widget.setVisible(WITH.get(name, name) in self._shown)
        self.add.setEnabled(any(name not in self._shown for name in self._addable))

    @property
    def _addable(self) -> tuple[str, ...]:
        return FIRST if self._first else tuple(ADDED)

    def _fill_menu(self) -> None:
        self._menu.clear()
        for name in self._addable:
            if name not in self._shown:
                words, _value = ADDED[name]
                self._menu.addAction(words, partial(self.add_one, name))

    def add_one(self, name: str) -> None:
        """Let something more happen at this change, as it is usual."""
        self._shown.add(name)
        self._set(name, ADDED[name][1])
        self._show_fields()
        self.fields[name].setFocus()

    def _set(self, name: str, value: object) -> None:
        made: object = value
        if name in SWITCHES:
            made = value == ON
        elif name == "sweep":
            made = "" if value == OFF else value
        elif name == "sag_share":
            made = float(str(value)) / 100
        section_id = self._section_id
        self._edit(
            "a seam",
            lambda document: arranging.set_seam(document, section_id, **{name: made}),
            moving=True,
        )
