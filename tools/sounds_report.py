"""Measure every house sound and draw its spectrograms: one page to judge the set by."""

import base64
import html
import sys
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QBuffer, QIODevice, QRectF, Qt
from PyQt6.QtGui import QColor, QFont, QGuiApplication, QImage, QPainter

from cloudrift.audio.buffers import DEFAULT_RATE, to_db
from cloudrift.audio.spectrum import spectrogram
from cloudrift.sound.catalogue import CATALOGUE
from cloudrift.sound.instrument import Instrument
from cloudrift.sound.measure import Row, chord_lufs, measured, part_ms, pitches, strike
from cloudrift.sound.verdicts import Verdict, verdicts
from cloudrift.theory import Key

PAGE = Path("build") / "sounds-report.html"
HELD_S, TAIL_S = 2.0, 1.0
COLUMNS, ROWS, GAP, EDGE, FOOT = 150, 96, 6, 34, 14
LOW_HZ, HIGH_HZ = 40.0, 18_000.0
MARKS_HZ = (100, 1000, 10_000)
FLOOR_DB = -90.0
PLAIN = Key("C", "major")

STYLE = """
body { font: 14px sans-serif; margin: 24px; color: #14242c; background: #f3f8f9; }
table { border-collapse: collapse; } td, th { padding: 4px 8px; text-align: right;
border-bottom: 1px solid #c8d5da; vertical-align: top; } td:first-child, th:first-child {
text-align: left; } .bad { color: #c3371f; font-weight: 700; } small { color: #56707c; }
"""


def picture(instrument: Instrument) -> QImage:
    """Draw a note low, in the middle and high in the register, held 2 s and let go."""
    width = EDGE + 3 * (COLUMNS + GAP)
    image = QImage(width, ROWS + FOOT, QImage.Format.Format_RGB32)
    image.fill(QColor("#0c171c"))
    painter = QPainter(image)
    painter.setFont(QFont("sans-serif", 7))
    painter.setPen(QColor("#9fb6bf"))
    for hz in MARKS_HZ:
        y = ROWS * (1 - np.log(hz / LOW_HZ) / np.log(HIGH_HZ / LOW_HZ))
        words = f"{hz // 1000} kHz" if hz >= 1000 else f"{hz} Hz"
        painter.drawText(QRectF(0, y - 6, EDGE - 3, 12), Qt.AlignmentFlag.AlignRight, words)
    for i, pitch in enumerate(pitches(instrument)[:3]):
        audio = strike(instrument, pitch, 100, HELD_S, tail_s=TAIL_S)
        # The picture goes round the seam: silence keeps the start out of its end.
        more = COLUMNS // 20
        audio = np.pad(audio, ((0, 0), (0, audio.shape[1] * more // COLUMNS)))
        rows = spectrogram(audio, DEFAULT_RATE, columns=COLUMNS + more, rows=ROWS, low_hz=LOW_HZ,
                           high_hz=HIGH_HZ)[:, :COLUMNS]  # fmt: skip
        x = EDGE + i * (COLUMNS + GAP)
        painter.drawImage(x, 0, _heat(rows - rows.max()))
        painter.drawText(QRectF(x, ROWS, COLUMNS, FOOT), Qt.AlignmentFlag.AlignLeft,
                         f"{PLAIN.spell_pitch(pitch)}, 0 to {HELD_S + TAIL_S:.0f} s")  # fmt: skip
    painter.end()
    return image


def _heat(level_db: NDArray[np.float32]) -> QImage:
    share = np.clip(1 - level_db / FLOOR_DB, 0, 1)
    stops = np.array([0, 0.35, 0.7, 1.0])
    colours = np.array([[12, 23, 28], [24, 92, 110], [222, 146, 76], [255, 246, 226]])
    rgb = np.stack([np.interp(share, stops, colours[:, c]) for c in range(3)], axis=-1)
    data = np.ascontiguousarray(rgb.astype(np.uint8))
    image = QImage(data.tobytes(), data.shape[1], data.shape[0], 3 * data.shape[1],
                   QImage.Format.Format_RGB888)  # fmt: skip
    return image.copy()


def _shown(instrument: Instrument) -> str:
    return f'<img src="data:image/png;base64,{_inline(picture(instrument))}"><br>'


def _inline(image: QImage) -> str:
    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    image.save(buffer, "PNG")
    return base64.b64encode(bytes(buffer.data())).decode()


def _cell(text: str, *, bad: bool = False) -> str:
    return f'<td class="bad">{text}</td>' if bad else f"<td>{text}</td>"


def wanted(found: list[Verdict]) -> str:
    """Return what is wanted of a sound, and what it is, as a list; what misses is marked."""
    lines = []
    for one in found:
        where = f", {one.where}" if one.where else ""
        text = html.escape(f"{one.what}: {one.found:.2f} {one.unit} "
                           f"({one.low:g} to {one.high:g}{where})")  # fmt: skip
        if one.why:
            text += f"<br><i>may lie elsewhere: {html.escape(one.why)}</i>"
        lines.append(text if one.holds else f'<span class="bad">{text}</span>')
    return "<small>" + "<br>".join(lines) + "</small>"


def line(instrument: Instrument, rows: list[Row]) -> str:
    """Return a sound as a row of the table; what misses a claim is marked."""
    worst = max(rows, key=lambda r: abs(r.tuning_cents))
    lufs, ms = chord_lufs(instrument), part_ms(instrument)
    rise = min(r.levels_db[2] - r.levels_db[0] for r in rows)
    bright = min(r.centroids_hz[2] / r.centroids_hz[0] for r in rows)
    mono = max(r.mono_loss_db for r in rows)
    dirt = max(r.dirt_db for r in rows)
    middle = rows[len(rows) // 2]
    tuned = f"{worst.tuning_cents:+.1f}" if instrument.tuned else "free"
    drum = instrument.family == "drums"
    cells = [
        f"<td><b>{html.escape(instrument.label)}</b><br><small>{html.escape(instrument.about)}"
        f"<br>{', '.join(instrument.tags)}</small></td>",
        f"<td>{_shown(instrument)}</td>",
        _cell(tuned, bad=instrument.tuned and abs(worst.tuning_cents) > 2),
        _cell(f"{dirt:.0f}", bad=dirt > -80),
        _cell(f"{middle.attack_ms:.0f}"),
        _cell(f"{middle.decay_db_s:.0f}" if middle.decay_db_s < 900 else "swells"),
        _cell(" / ".join(f"{hz:.0f}" for hz in middle.centroids_hz), bad=bright < 1.2),
        _cell(f"{rise:.1f}", bad=rise < 12),
        _cell(f"{lufs:.1f}", bad=not drum and abs(lufs + 20) > 1.5),
        _cell(f"{mono:.1f}", bad=mono >= 3),
        _cell(f"{ms / 64:.1f}", bad=ms > 120),
        f'<td style="text-align: left">{wanted(verdicts(instrument))}</td>',
    ]
    return f"<tr>{''.join(cells)}</tr>"


def main() -> None:
    """Write the page; with names, of those sounds alone."""
    app = QGuiApplication(sys.argv[:1])
    heads = ("sound", "low, middle, high at velocity 100", "tuning, cents", "folded or stray, dB",
             "attack, ms", "decay, dB/s", "centroid at 30 / 80 / 120, Hz", "level 30 to 120, dB",
             "chord, LUFS", "mono loss, dB", "ms a note (64, cold)",
             "what is wanted: what was measured (range)")  # fmt: skip
    body = []
    family = ""
    chosen = [s for name, s in CATALOGUE.items() if name in sys.argv[1:] or len(sys.argv) < 2]
    for sound in chosen:
        if sound.family != family:
            family = sound.family
            body.append(f'<tr><th colspan="{len(heads)}">{family}</th></tr>')
        body.append(line(sound, [measured(sound, pitch) for pitch in pitches(sound)]))
        print(f"{sound.name}: peak {to_db(np.abs(strike(sound, pitches(sound)[1])).max()):.1f} dB")
    PAGE.parent.mkdir(exist_ok=True)
    table = "".join(f"<th>{head}</th>" for head in heads)
    PAGE.write_text(
        f"<!doctype html><meta charset='utf-8'><title>House sounds</title><style>{STYLE}</style>"
        f"<h1>House sounds: {len(chosen)}</h1><table><tr>{table}</tr>{''.join(body)}</table>",
        encoding="utf-8",
    )
    print(f"wrote {PAGE}")
    del app


if __name__ == "__main__":
    main()
