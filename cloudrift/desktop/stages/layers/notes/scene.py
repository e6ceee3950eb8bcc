"""What stands still in the note grid, kept as pictures: lines and chords, and the notes."""

from PyQt6.QtGui import QPainter, QPixmap
from PyQt6.QtWidgets import QWidget

from cloudrift.desktop.kit.look import look
from cloudrift.desktop.stages.layers.notes.model import Ground
from cloudrift.desktop.stages.layers.notes.paint import paint_ground, paint_notes
from cloudrift.desktop.stages.layers.notes.places import Places
from cloudrift.loop.model.loop import Layer
from cloudrift.notes.note import Note


class Scene:
    """Paints what has changed: while notes are dragged, the lines behind them stay."""

    def __init__(self) -> None:
        self._ground = self._picture = QPixmap()
        self._ground_of: tuple[object, ...] = ()
        self._picture_of: tuple[object, ...] = ()

    def picture(
        self,
        widget: QWidget,
        ground: Ground,
        layer: Layer,
        notes: tuple[Note, ...],
        places: Places,
        grid_ticks: int,
        *,
        dimmed: bool,
    ) -> QPixmap:
        """Return the picture of a layer's notes; ``dimmed`` while others are tried over them."""
        lens, loop = layer.played.lens, ground.loop
        strip = (lens.where, lens.late_bars, lens.late_ticks) if layer.follows else None
        ground_of = (loop.chords, loop.key, loop.bars, loop.metre, places, grid_ticks, strip,
                     ground[1:],
                     layer.role, look.name, widget.devicePixelRatioF())  # fmt: skip
        picture_of = (notes, layer.follows, dimmed, layer.played.sound.of.tuned)
        fresh = ground_of != self._ground_of
        if fresh:
            ratio = widget.devicePixelRatioF()
            self._ground = QPixmap(int(places.width * ratio), int(places.height * ratio))
            self._ground.setDevicePixelRatio(ratio)
            self._ground_of = ground_of
            painter = QPainter(self._ground)
            paint_ground(painter, places, ground, layer, grid_ticks)
            painter.end()
        if fresh or picture_of != self._picture_of:
            self._picture, self._picture_of = QPixmap(self._ground), picture_of
            painter = QPainter(self._picture)
            tuned = layer.played.sound.of.tuned
            paint_notes(
                painter,
                places,
                notes,
                layer.role,
                loop.key.scale if tuned else range(12),
                read_only=layer.follows,
                alpha=0.35 if dimmed else 1.0,
            )
            painter.end()
        return self._picture
