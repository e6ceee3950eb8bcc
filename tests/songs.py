"""Songs as files, for tests that read them."""

from cloudrift.notes.midi import midi_file
from cloudrift.notes.note import Note
from cloudrift.notes.time import bar_ticks


def write_song(path, *, bars=4, metre=(4, 4), first_bar=0):
    """Chords in one part and a tune in another, as a player would have them written."""
    bar = bar_ticks(metre)
    row = ((45, 57, 60, 64), (41, 57, 60, 65), (48, 55, 60, 64), (43, 55, 59, 62))
    pads = [Note(start_tick=(first_bar + i) * bar, length_ticks=bar - 40, pitch=v, velocity=80)
            for i in range(bars) for v in row[i % 4]]  # fmt: skip
    tune = [Note(start_tick=first_bar * bar + 480 * i, length_ticks=400, pitch=76 + i % 3,
                 velocity=90) for i in range(bars * 8)]  # fmt: skip
    path.write_bytes(
        midi_file([("Low pads", tuple(pads)), ("Tune", tuple(tune))], tempo=93.0, metre=metre,
                  signature="Am", loop_ticks=(first_bar + bars) * bar, title="x")
    )  # fmt: skip
    return path
