"""The Texture stage: which line, and its descent from bare to treated."""

from collections.abc import Callable
from functools import partial

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QHBoxLayout, QMenu, QPushButton, QVBoxLayout, QWidget

from cloudrift.audio.spectrum import spectrogram
from cloudrift.desktop.look import SEMI
from cloudrift.desktop.parts import WhileShown, clear, label, panel, scrolling
from cloudrift.desktop.session import BARE, TREATED, Session
from cloudrift.desktop.tasks import Tasks
from cloudrift.desktop.texture.row import BareRow, Link, TreatmentRow
from cloudrift.desktop.texture.strip import COLUMNS, ROWS, Strip
from cloudrift.desktop.texture.targets import ALL, GROUPS, LAYERS, Targets, line_owners
from cloudrift.loop import edits
from cloudrift.loop.model import Loop
from cloudrift.render.engine import Engine
from cloudrift.render.plan import group_node, layer_node, loop_node
from cloudrift.texture import FAMILIES, KINDS

Picture = NDArray[np.float32]


def strip_picture(engine: Engine, loop: Loop, line_of: str | None, count: int) -> Picture:
    """Return the spectrogram of a line behind its first ``count`` treatments."""
    if line_of is None:
        node = loop_node(loop, engine.tones, count=count)
    elif line_of in {group.id for group in loop.groups}:
        node = group_node(loop, line_of, engine.tones, count=count)
    else:
        node = layer_node(loop, loop.layer(line_of), engine.tones, count=count)
    return spectrogram(engine.audio(node), loop.rate, columns=COLUMNS, rows=ROWS)


BARE_WORDS = {
    LAYERS: "as the notes and the sound make it",
    GROUPS: "the sum of its layers, each behind its own line",
    ALL: "the sum of the layers, each behind its own line",
}


class TextureStage(QWidget):
    """Targets at the left, rows at the right, what may be added below."""

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__()
        self._session, self._tasks = session, tasks
        self.targets = Targets()
        self.targets.chosen.connect(self._choose_line)
        self.rows: list[TreatmentRow] = []
        self.strips: list[Strip] = []
        self._built: tuple[object, ...] = ()
        self._share = 0.0
        self.title = label("", size=14, weight=SEMI)
        self.treated = label("", size=11.5, name="soft")
        middle = panel()
        inside = QVBoxLayout(middle)
        inside.setContentsMargins(12, 9, 4, 8)
        inside.setSpacing(4)
        inside.addWidget(self.title)
        self._list = QVBoxLayout()
        self._list.setContentsMargins(0, 2, 8, 2)
        self._list.setSpacing(0)
        holder = QWidget()
        holder.setLayout(self._list)
        inside.addWidget(scrolling(holder), 1)
        inside.addWidget(self.treated)
        inside.addLayout(self._adding())
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 6, 8, 6)
        row.setSpacing(8)
        row.addWidget(self.targets)
        row.addWidget(middle, 1)
        refresh = WhileShown(self, self._show)
        session.changed.connect(refresh)
        session.opened.connect(refresh)
        session.selected.connect(refresh)
        session.hearing_changed.connect(self._show_heard)
        session.loudness_changed.connect(self._show_loudness)
        session.sound_changed.connect(lambda _r: self._ask_for_strips())
        self._show()

    def _adding(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(6)
        row.addWidget(label("Add a treatment:", size=12, name="soft"))
        self.adders: dict[str, QAction] = {}
        for family in FAMILIES:
            made = QPushButton(family)
            menu = QMenu(made)
            for kind in KINDS.values():
                if kind.family == family:
                    action = menu.addAction(f"{kind.label}: {kind.about}")
                    assert action is not None
                    action.triggered.connect(partial(self._add_chosen, kind.name))
                    self.adders[kind.name] = action
            made.setMenu(menu)
            made.setAccessibleName(f"Add a treatment: {family}")
            row.addWidget(made)
        row.addStretch(1)
        return row

    def _add_chosen(self, kind: str, _checked: bool = False) -> None:
        self._add(kind)

    @property
    def _line_of(self) -> str | None:
        return self._session.selection.line_of

    def _choose_line(self, line_of: str | None) -> None:
        self._session.hear_up_to(None, None)
        self._session.select(line_of=line_of, treatment_id="")

    def _add(self, kind: str) -> None:
        line_of = self._line_of
        if self._session.apply(
            "add a treatment", lambda loop: edits.add_treatment(loop, line_of, kind)
        ):
            added = self._session.loop.line_of(line_of)[-1]
            self._session.select(treatment_id=added.id)

    # --- showing ------------------------------------------------------------------------------

    def _show(self) -> None:
        loop, line_of = self._session.loop, self._line_of
        line = loop.line_of(line_of)
        opened = self._session.selection.treatment_id
        self.targets.show_loop(loop, line_of)
        name = next(one.name for one in line_owners(loop) if one.id == line_of)
        self.title.setText(f"{name}, from bare to treated")
        built = (line_of, name, opened, tuple((t.id, t.kind) for t in line))
        if built != self._built:
            self._built = built
            self._build(loop, line_of, opened)
        for row, treatment in zip(self.rows, line, strict=True):
            row.show_treatment(treatment)
        self._show_heard()
        self._show_loudness()

    def _build(self, loop: Loop, line_of: str | None, opened: str) -> None:
        clear(self._list)
        owner = next(one for one in line_owners(loop) if one.id == line_of)
        role, words = owner.role, BARE_WORDS[owner.part]
        bare = BareRow(role, words)
        self._list.addWidget(bare)
        self.rows, self.strips = [], [bare.strip]
        for treatment in loop.line_of(line_of):
            row = TreatmentRow(self._session, line_of, treatment, role,
                               open_=treatment.id == opened)  # fmt: skip
            self.rows.append(row)
            self.strips.append(row.strip)
            self._list.addWidget(Link(role))
            self._list.addWidget(row)
        if not self.rows:
            empty = label("Nothing is done to it yet: add a treatment below, it is heard at once.",
                          size=12, name="soft")  # fmt: skip
            empty.setContentsMargins(12, 14, 0, 0)
            self._list.addWidget(empty)
        self._list.addStretch(1)
        for count, strip in enumerate(self.strips):
            strip.pressed.connect(lambda n=count: self._press(n))
            strip.show_place(self._share)
        self._ask_for_strips()

    def _ask_for_strips(self) -> None:
        if not self.isVisible():
            return
        loop, line_of, engine = self._session.loop, self._line_of, self._session.engine
        for count, strip in enumerate(self.strips):
            self._tasks.run(
                f"strip {count}",
                _picture_work(engine, loop, line_of, count),
                strip.show_picture,
            )

    def showEvent(self, event: object) -> None:
        self._ask_for_strips()

    def _press(self, count: int) -> None:
        whole = count == len(self.strips) - 1
        already = self._session.heard_up_to == (self._line_of, count)
        self._session.hear_up_to(self._line_of, None if whole or already else count)

    def _show_heard(self) -> None:
        up_to = self._session.heard_up_to
        count = up_to[1] if up_to and up_to[0] == self._line_of else None
        for i, strip in enumerate(self.strips):
            strip.show_heard(count == i, count is not None and i > count)

    def _show_loudness(self) -> None:
        treated, bare = (self._session.loudness.get(name) for name in (TREATED, BARE))
        if treated is None or bare is None:
            return
        match = self._session.match_db
        words = (
            f"Treated: {treated.lufs:.1f} LUFS, peak {treated.true_peak_db:.1f} dBTP · bare: "
            f"{bare.lufs:.1f} LUFS, compared at {match:+.1f} dB so that both are equally loud"
        )
        self.treated.setText(words.replace("-", "−"))

    def focus_first(self) -> None:
        """Put the keyboard where the work is."""
        self.targets.buttons[self._line_of].setFocus()

    def show_place(self, share: float) -> None:
        """Move the playhead on all strips."""
        self._share = share
        for strip in self.strips:
            strip.show_place(share)


def _picture_work(
    engine: Engine, loop: Loop, line_of: str | None, count: int
) -> Callable[[object, object], Picture]:
    return lambda _stop, _moved: strip_picture(engine, loop, line_of, count)
