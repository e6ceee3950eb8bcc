"""What rides over a section: where it begins, where it ends; and what else could."""

from collections.abc import Callable
from functools import partial

from msgspec.structs import replace
from PyQt6.QtWidgets import QMenu, QWidget

from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.parts import Elided, button, clear, small_button
from cloudrift.desktop.session.session import Session
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.arranging import arranging
from cloudrift.loop.edits.arranging.section_loops import loop_in
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.section_rides import (
    SectionPoint,
    SectionRide,
    can_ride,
    field_of,
    ride_words,
    value_now,
)
from cloudrift.loop.model.sections import Section

FADE_DB = -24.0  # how far a level goes where nothing else is said


class RidesHere(QWidget):
    """A row for each; a menu of what of this section's loop can ride."""

    def __init__(self, session: Session, edit: Callable[..., bool]) -> None:
        super().__init__()
        self._session, self._edit = session, edit
        self._section: Section | None = None
        self._loop: Loop | None = None
        self.ends: dict[tuple[str, str, str], tuple[FieldWidget, FieldWidget]] = {}
        self._shown: object = None
        self.add = small_button(
            "Add a ride…",
            self.open_menu,
            tip="A level, a setting or a dry/wet that changes over the section",
        )
        column = vertical(self, FLUSH, 3)
        self._rows = vertical(spacing=3)
        fill(column, self._rows, self.add)

    def show_section(self, document: Document, section: Section) -> None:
        """Show what rides over a section."""
        self._section, self._loop = section, loop_in(document.loop, section)
        shown = (section.id, [(one.what, ride_words(self._loop, one)) for one in section.rides])
        if shown != self._shown:
            self._shown = shown
            self.ends.clear()
            clear(self._rows)
            for ride in section.rides:
                self._rows.addWidget(self._row(ride))
        for ride in section.rides:
            for widget, point in zip(self.ends.get(ride.what, ()), _ends(ride), strict=False):
                widget.set_value(point.value)

    def _row(self, ride: SectionRide) -> QWidget:
        assert self._loop is not None
        holder = QWidget()
        column = vertical(holder, FLUSH, 2)
        head = horizontal()
        words = Elided(size=11.5)
        words.setText(ride_words(self._loop, ride))
        fill(head, (words, 1), button("remove", partial(self._put, None, ride.what), name="link"))
        column.addLayout(head)
        try:
            field = field_of(self._loop, ride)
        except CloudriftError:
            return holder
        row = horizontal(spacing=4)
        widgets = []
        for end, label in ((0, "from"), (-1, "to")):
            widget = FieldWidget(replace(field, label=label), ride.points[end].value)
            widget.setMinimumWidth(60)
            widget.setAccessibleName(f"{words.text()}, {label}")
            widget.edited.connect(partial(self._set, ride.what, end))
            widget.settled.connect(self._session.end_drag)
            widgets.append(widget)
            row.addWidget(widget)
        self.ends[ride.what] = (widgets[0], widgets[1])
        column.addLayout(row)
        return holder

    # --- doing --------------------------------------------------------------------------------

    def _set(self, what: tuple[str, str, str], end: int, value: object) -> None:
        section = self._section
        ride = next((one for one in section.rides if one.what == what), None) if section else None
        if ride is None:
            return
        points = list(ride.points)
        points[end] = SectionPoint(at=points[end].at, value=float(str(value)))
        self._put(replace(ride, points=tuple(points)), what, moving=True)

    def _put(
        self, ride: SectionRide | None, what: tuple[str, str, str], *, moving: bool = False
    ) -> None:
        section = self._section
        if section is not None:
            self._edit(
                "a ride over a section",
                lambda document: arranging.set_ride(document, section.id, ride, what=what),
                moving=moving,
            )

    def begin(self, what: tuple[str, str, str]) -> None:
        """Let a value ride: from what it is to somewhere else, to be heard at once."""
        loop = self._loop
        if loop is None:
            return
        owner, treatment, of = what
        now = value_now(loop, what)
        points = (SectionPoint(at=0, value=now), SectionPoint(at=1, value=now))
        ride = SectionRide(owner=owner, treatment=treatment, of=of, points=points)
        field = field_of(loop, ride)
        share = field.to_share(now)
        to = field.from_share((share + (0.0 if share > 0.5 else 1.0)) / 2)
        if not treatment:
            to = max(field.low, now + FADE_DB)
        self._put(replace(ride, points=(points[0], SectionPoint(at=1, value=to))), what)

    def menu(self) -> QMenu:
        """Return the menu of what can ride here."""
        menu = QMenu(self)
        loop, section = self._loop, self._section
        if loop is None or section is None:
            return menu
        taken = {one.what for one in section.rides}
        heard = (*loop.heard(), *(loop.bed.heard if loop.bed else ()))
        owners = [
            ("Whole section", ""),
            *((x.name, x.id) for x in (*loop.groups, *loop.bed_group)),
            *((x.name, x.id) for x in heard),
        ]
        for name, owner in owners:
            inside = menu.addMenu(name.replace("&", "&&"))
            assert inside is not None
            for words, what in can_ride(loop, owner):
                action = inside.addAction(words.replace("&", "&&"))
                assert action is not None
                action.setEnabled(what not in taken)
                action.triggered.connect(lambda _c=False, w=what: self.begin(w))
        return menu

    def open_menu(self) -> None:
        """Open it below its button."""
        self.menu().popup(self.add.mapToGlobal(self.add.rect().bottomLeft()))


def _ends(ride: SectionRide) -> tuple[SectionPoint, SectionPoint]:
    return ride.points[0], ride.points[-1]
