"""The list of the files that would be written: each measured beside the interface, and heard."""

from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path

from PyQt6.QtWidgets import QWidget

from cloudrift.deliver.demo_sound import lengths_of
from cloudrift.deliver.making import Making
from cloudrift.deliver.order import Order
from cloudrift.deliver.parcel import Parcel
from cloudrift.desktop.kit.drag_out import Draggable
from cloudrift.desktop.kit.layouts import FLUSH, vertical
from cloudrift.desktop.kit.parts import clear, label
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.timers import single_shot
from cloudrift.desktop.session.work.file_heard import FileHeard
from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.desktop.stages.deliver.file_row import FileFacts, FileRow, facts_of_sound, size_text
from cloudrift.loop.edits.arranging.section_loops import seconds_of
from cloudrift.loop.model.document import Document
from cloudrift.loop.sounding import key_heard
from cloudrift.render.engine.engine import Engine

MEASURING, MEASURE_MS = "a file to export", 250
LONG = ("arrangement", "demo", "long", "prints", "pieces", "sounds")  # not made to be measured
Drop = Callable[[str, Path, Callable[[list[Path] | None], None]], None]


class FileList(QWidget):
    """A row a file. ``drop`` makes one by its name where it was dragged to."""

    def __init__(self, session: Session, tasks: Tasks, drop: Drop) -> None:
        super().__init__()
        self._session, self._tasks, self._drop = session, tasks, drop
        self.rows: list[FileRow] = []
        self.heard = FileHeard(session, tasks)
        self.heard.changed.connect(self._show_heard)
        self._shown: object = None
        self._order: Order | None = None
        self._document: Document | None = None
        self._lines = vertical(self, FLUSH, 5)
        self._clock = single_shot(self, self._measure, MEASURE_MS)

    def show_files(
        self, order: Order | None, todo: Sequence[Parcel], plain: Sequence[Parcel], problem: str
    ) -> None:
        """Show what an order writes; ``plain`` are the same under the names that are no numbers."""
        document = self._session.document.history.now
        shown = (problem, [(one.name, one.what) for one in todo], [x.name for x in plain])
        if shown != self._shown:
            self._shown = shown
            self._build(todo, plain, problem)
        elif document is self._document and order == self._order:
            return
        self._order, self._document = order, document
        self._clock.start()

    def _build(self, todo: Sequence[Parcel], plain: Sequence[Parcel], problem: str) -> None:
        clear(self._lines)
        loop = self._session.loop
        self.rows = []
        for parcel, own in zip(todo, plain, strict=True):
            key = key_heard(loop) if parcel.treated else loop.key
            differs = key_heard(loop) != loop.key
            row = FileRow(parcel, key.text if differs else "", parcel.role)
            row.clicked.connect(partial(self._hear, parcel))
            Draggable(row, partial(self._drop, own.name), parcel.name)
            self.rows.append(row)
            self._lines.addWidget(row)
        if not todo:
            words = problem or "This loop has none of the selected parts."
            self._lines.addWidget(
                label(words[:1].upper() + words[1:], size=12.5, name="soft", wrap=True)
            )
        self._lines.addStretch(1)

    def _hear(self, parcel: Parcel, _on: bool = False) -> None:
        if self._order is not None:
            self.heard.hear(parcel, self._order)

    def _show_heard(self) -> None:
        for row in self.rows:
            row.show_heard(on=bool(self.heard.name) and row.parcel.name == self.heard.name)

    def _measure(self) -> None:
        """Measure each file as it would be, one after another, while the list is seen."""
        order, document = self._order, self._document
        if order is None or document is None or not self.isVisible():
            return
        for at, row in enumerate(self.rows):
            if row.parcel.sound is not None:
                self._tasks.run(
                    f"{MEASURING} {at}",
                    partial(_facts_of, row.parcel, document, order, self._session.engine),
                    partial(self._came, row.parcel.name),
                    lambda _error: None,  # what can't be made says so when it is written
                    lane=Lane.ASKING,
                )

    def _came(self, name: str, facts: FileFacts) -> None:
        order = self._order
        row = next((one for one in self.rows if one.parcel.name == name), None)
        if row is None or order is None or not facts.seconds:
            return
        rate = self._session.loop.rate
        row.show_facts(facts, f"{facts.seconds:.2f} s · {size_text(facts.seconds, order, rate)}")

    def leave(self) -> None:
        """Nothing of it is heard or measured any more."""
        self.heard.leave()
        for at in range(len(self.rows)):
            self._tasks.cancel(f"{MEASURING} {at}")


def _facts_of(
    parcel: Parcel,
    document: Document,
    order: Order,
    engine: Engine,
    stale: Callable[[], bool],
    _moved: object,
) -> FileFacts:
    if parcel.part in LONG or parcel.sound is None:
        return FileFacts(_length_of(parcel.part, document), None)
    return facts_of_sound(parcel.sound(Making(document, order, engine, stale)), document.loop.rate)


def _length_of(part: str, document: Document) -> float:
    """How long a file is that is too long to be made only to be looked at, where that is known."""
    if part == "arrangement":
        return seconds_of(document)
    if part == "demo":
        return sum(lengths_of(document.loop, document.demo)) / document.loop.rate
    return 0.0
