"""How often a MIDI file's key is found: ``python -m bench.midi_keys 300``.

Loops of this program's own making in major, minor, dorian and phrygian, of random rows, lenses and
lengths, written as MIDI without their key and read again.
"""

import argparse
import random
import tempfile
from collections import Counter
from pathlib import Path

import mido

from bench.found_loops import TONICS
from cloudrift.deliver.writer import write_midi
from cloudrift.loop.edits.chords.progression import put_row
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.model.loop import Loop
from cloudrift.notes.from_midi import read_song
from cloudrift.style.beginnings import empty_loop
from cloudrift.theory import Key, parse_progression

ROWS = {
    # Rows that are at home in two keys at once (vi IV I V is i VI III VII) tell neither.
    "minor": (
        "i iv VI V", "i VII VI V", "i v VI iv", "i iv VII i", "i VI iv V7", "i III VII iv",
        "VI VII i i", "i iv i V7", "i ii° V i", "iv V i VI", "i VI iv7 V7", "i V i iv",
    ),
    "major": (
        "I V vi IV", "I vi IV V", "ii7 V7 I I", "I IV vi V", "IV V I I", "I iii IV V7",
        "Imaj7 vi7 ii7 V7", "IV V7 I vi", "I ii IV I", "I IV I V7", "I IV V IV",
    ),
    "dorian": (
        "i IV i IV", "i VII IV i", "i ii III ii", "i IV VII i", "i III IV i", "i v IV i",
        "i7 IV7 i7 IV7", "i ii i VII", "i IV v i", "i VII i IV", "i III VII IV",
    ),
    "phrygian": (
        "i bII i bII", "i bII bIII bII", "i bvii bII i", "i bIII bII i", "i iv bII i",
        "i bVI bII i", "i bII bvii i", "i bII i bvii", "i7 bIImaj7 i7 bvii7", "bII i bII i",
    ),
}  # fmt: skip
SOUNDS = ("felt upright", "warm pad", "nylon", "music box", "round sub")
CHORDS, LENSES = ("all", "broken"), ("all", "broken", "top", "line", "inner")


def found(number: int) -> Loop:
    """Return the loop of a number."""
    variation = random.Random(number)
    mode = variation.choice(list(ROWS))
    key = Key(variation.choice(TONICS), mode)
    loop = empty_loop(key, float(variation.randint(62, 172)), bars=variation.choice((4, 8, 8)))
    loop = put_row(loop, parse_progression(variation.choice(ROWS[mode]), key))
    lenses = [variation.choice(CHORDS), *variation.sample(LENSES, variation.randint(0, 2))]
    for sound, lens in zip(SOUNDS, lenses, strict=False):
        loop = layer_edits.add_layer(loop, sound)
        loop = layer_edits.set_lens(
            loop, loop.layers[-1].id, kind=lens, variation=variation.randint(1, 99)
        )
    if variation.random() < 0.7:
        loop = layer_edits.add_layer(loop, "round sub")
    return loop


def heard(number: int, folder: Path) -> tuple[Key, Key, float]:
    """Return the key of a loop, the one that its MIDI file is taken to be in, and how surely."""
    loop = found(number)
    path = folder / "loop.mid"
    write_midi(path, loop, loop.layers)
    file = mido.MidiFile(path)
    for track in file.tracks:
        track[:] = [message for message in track if message.type != "key_signature"]
    file.save(path)
    song = read_song(path)
    return loop.key, song.key, song.key_confidence


def main() -> None:
    """Print a table by mode, and one of how sure it was."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("number", nargs="?", type=int, default=300)
    parser.add_argument("--first", type=int, default=1000)
    parser.add_argument("--wrong", action="store_true", help="print each wrong answer")
    given = parser.parse_args()
    counts: Counter[tuple[str, str]] = Counter()
    sure: Counter[tuple[int, bool]] = Counter()
    with tempfile.TemporaryDirectory() as place:
        for number in range(given.first, given.first + given.number):
            key, guess, confidence = heard(number, Path(place))
            right = (guess.pc, guess.mode) == (key.pc, key.mode)
            near = right or set(guess.scale) == set(key.scale)
            for mode in (key.mode, "all"):
                counts.update({(mode, "files"): 1, (mode, "right"): right, (mode, "near"): near})
            sure[min(3, int(max(confidence - 0.5, 0) * 8)), right] += 1
            if given.wrong and not right:
                print(number, key.text, "taken for", guess.text, f"{confidence:.0%}")
    print("| mode | files | key | key, or one of the same notes |\n|---|---|---|---|")
    for mode in (*ROWS, "all"):
        files = max(1, counts[mode, "files"])
        shares = (100 * counts[mode, what] / files for what in ("right", "near"))
        print(f"| {mode} | {files} | " + " | ".join(f"{share:.1f}%" for share in shares) + " |")
    print("\n| sure | files | right |\n|---|---|---|")
    for step, words in enumerate(("up to 62%", "62% to 75%", "75% to 87%", "87% and over")):
        right, wrong = sure[step, True], sure[step, False]
        if right + wrong:
            print(f"| {words} | {right + wrong} | {100 * right / (right + wrong):.0f}% |")


if __name__ == "__main__":
    main()
