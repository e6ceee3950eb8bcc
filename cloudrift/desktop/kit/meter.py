"""The level meter: what sounds at this place, and how loud and how high the whole loop is."""

import numpy as np
from PyQt6.QtCore import QRect, QRectF, Qt
from PyQt6.QtGui import QPainter

from cloudrift.audio.buffers import QUIET_DB, to_db
from cloudrift.desktop.kit.look import color, figure_font
from cloudrift.desktop.kit.still import Still
from cloudrift.desktop.session.session import Session
from cloudrift.ground.words import number

LOW_DB = -48.0
WINDOW_S = 0.05
FALL_DB = 1.1  # a frame of the screen
BARS_PX = (17, 25)  # where they begin


class Meter(Still):
    """Two bars with a scale in dBFS, LUFS above and true peak below."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._levels = [QUIET_DB, QUIET_DB]
        self.setFixedSize(134, 48)
        self.setAccessibleName("Level")
        session.hearing.loudness_changed.connect(self.update)
        session.hearing.changed.connect(self.update)

    def follow(self, share: float) -> None:
        """Measure a short window at a place in the loop and let the bars follow."""
        rendered = self._session.hearing.rendered.get(self._session.hearing.side)
        levels = [QUIET_DB, QUIET_DB]
        if self._session.player.playing and rendered is not None:
            n = rendered.audio.shape[1]
            at = int(share * n)
            window = rendered.audio[:, at : at + int(WINDOW_S * rendered.loop.rate)]
            if window.shape[1]:
                levels = [to_db(float(peak)) for peak in np.abs(window).max(axis=1)]
        shown = [max(new, old - FALL_DB) for new, old in zip(levels, self._levels, strict=True)]
        if any(abs(a - b) > 0.05 for a, b in zip(shown, self._levels, strict=True)):
            self._levels = [max(level, QUIET_DB) for level in shown]
            self.update(QRect(0, BARS_PX[0], self.width(), BARS_PX[1] - BARS_PX[0] + 5))

    def paint_still(self, painter: QPainter) -> None:
        loudness = self._session.hearing.loudness.get(self._session.hearing.side)
        painter.setFont(figure_font(11))
        right = Qt.AlignmentFlag.AlignRight
        w = self.width()
        if loudness is not None:
            painter.setPen(color("ink_soft"))
            silent = loudness.lufs <= QUIET_DB
            lufs = "silent" if silent else f"{number(loudness.lufs, '.1f')} LUFS"
            painter.drawText(QRectF(0, 0, w, 13), right, lufs)
            if silent:
                loudness = None  # silence has no peak
        if loudness is not None:
            over = loudness.true_peak_db > 0
            painter.setPen(color("signal" if over else "ink_soft"))
            words = "over: " if over else "peak "
            peak = f"{words}{number(loudness.true_peak_db, '.1f')} dBTP"
            painter.drawText(QRectF(0, 34, w, 13), right, peak)
        for y in BARS_PX:
            painter.fillRect(QRectF(0, y, w, 5), color("hair"))
        painter.setPen(color("ink_soft"))
        for db in (-36, -24, -12, -6):
            x = int(w * (db - LOW_DB) / -LOW_DB)
            painter.drawLine(x, 22, x, 24)
        painter.setFont(figure_font(8.5))
        painter.drawText(
            QRectF(0, 35, 40, 12), Qt.AlignmentFlag.AlignLeft, f"{number(LOW_DB, '.0f')} dB"
        )

    def paint_moving(self, painter: QPainter) -> None:
        for y, level in zip(BARS_PX, self._levels, strict=True):
            share = (min(max(level, LOW_DB), 0.0) - LOW_DB) / -LOW_DB
            box = QRectF(0, y, self.width() * share, 5)
            painter.fillRect(box, color("good" if level < -1 else "signal"))
