"""A group in the list of layers: its name, who is in it, level, pan, hear, off."""

from typing import Any

from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QGridLayout

from cloudrift.desktop.kit.parts import Elided
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.stages.layers.owner_row import OwnerRow
from cloudrift.ground.words import plural
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.model.loop import Group, Loop


class GroupRow(OwnerRow):
    """A card over the cards of its layers."""

    def __init__(self, session: Session, group: Group, role: str) -> None:
        super().__init__(session, group, role, "group")
        self.setObjectName("card")
        self.setFixedHeight(101)
        self.setToolTip("These layers share a level, a pan and a treatment line")
        self.who = Elided(size=11.5, name="soft")
        grid = QGridLayout(self)
        grid.setContentsMargins(14, 5, 8, 6)
        grid.setHorizontalSpacing(6)
        grid.setVerticalSpacing(1)
        grid.addWidget(self.name, 0, 0)
        grid.addWidget(self.who, 1, 0)
        grid.addLayout(self._switches(), 0, 1, 2, 1)
        grid.addLayout(self._fields(), 2, 0, 1, 2)
        grid.setColumnStretch(0, 1)

    def change(self, loop: Loop, **changes: Any) -> Loop:
        return layer_edits.set_group(loop, self.owner_id, **changes)

    def show_group(self, loop: Loop, group: Group) -> None:
        """Refresh from the loop."""
        inside = [layer for layer in loop.layers if layer.group == group.id]
        heard = {layer.id for layer in self._session.hearing.heard_loop.heard()}
        quiet = not any(layer.id in heard for layer in inside)
        self.name.setText(group.name)
        acting = sum(t.acts for t in group.line)
        words = f"group of {plural(len(inside), 'layer')}"
        self.who.setText(f"{words} · {plural(acting, 'treatment')}" if acting else words)
        self.show_switches(group, quiet=quiet)
        state = ", off" if quiet else ""
        self.setAccessibleName(f"Group {group.name}: {self.who.text()}{state}")
        self.update()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Its line is the one that Texture opens with."""
        self._session.select(line_of=self.owner_id, treatment_id="")
