"""Files of every schema there was open, and sound as they did.

Each was written by the program of its time, with all that its schema could hold. What they sound
like is in ``golden/sounds.json``: the level in dB of each octave in each sixteenth of the loop. Run
this module to write it anew, when a sound or a treatment was changed on purpose without a version.
"""

import itertools
import json
from pathlib import Path

import numpy as np
import pytest

from cloudrift.audio.clips import ClipStore
from cloudrift.loop.files.storage import SCHEMA, load, load_document, save
from tests.conftest import fresh_engine

FOLDER = Path(__file__).parent / "golden"
SOUNDS = FOLDER / "sounds.json"
PARTS, FLOOR_DB = 16, -80.0
SCHEMAS = sorted(int(path.stem.removeprefix("schema")) for path in FOLDER.glob("*.cloudrift"))


def file_of(schema):
    return FOLDER / f"schema{schema}.cloudrift"


def portrait(audio, rate):
    """Octaves from 31 Hz to 16 kHz in each part, dB, no lower than the floor: (parts, 10)."""
    edges = 31.25 * 2.0 ** (np.arange(11) - 0.5)
    rows = []
    for part in np.array_split(audio, PARTS, axis=1):
        power = (np.abs(np.fft.rfft(part * np.hanning(part.shape[1]))) ** 2).sum(0)
        hz = np.fft.rfftfreq(part.shape[1], 1 / rate)
        bands = [power[(hz >= a) & (hz < b)].sum() for a, b in itertools.pairwise(edges)]
        level = 10 * np.log10(np.array(bands) / part.shape[1] ** 2 + 1e-12)
        rows.append(np.maximum(level, FLOOR_DB).round(1).tolist())
    return rows


def sounding(schema):
    clips = ClipStore()
    loop = load(file_of(schema), clips)
    with fresh_engine(clips=clips) as engine:
        return portrait(engine.render(loop).audio, loop.rate)


def test_every_schema_there_was_has_its_file():
    assert list(range(1, SCHEMA)) == [n for n in SCHEMAS if n < SCHEMA]


@pytest.mark.parametrize("schema", SCHEMAS)
def test_a_file_of_an_earlier_schema_sounds_as_it_did(schema):
    wanted = np.array(json.loads(SOUNDS.read_text())[str(schema)])
    assert np.abs(np.array(sounding(schema)) - wanted).max() < 0.3


@pytest.mark.parametrize("schema", SCHEMAS)
def test_what_an_earlier_file_holds_is_in_it_when_it_is_saved_anew(schema, tmp_path):
    clips = ClipStore()
    loop = load(file_of(schema), clips)
    path = tmp_path / "anew.cloudrift"
    save(loop, path, clips)
    assert load(path, ClipStore()) == loop
    assert len(load_document(file_of(schema), clips).prints) == (schema >= 9) + (schema >= 10)
    arranged = load_document(file_of(schema), clips).arrangement
    assert bool(arranged.sections) == bool(arranged.line) == bool(loop.bed) == (schema >= 11)
    assert loop.title == f"Ice Road {schema}"
    assert loop.unknown == ()
    assert loop.layer("l2").pan == -0.3
    assert loop.chords[1].strikes == ((0, 960) if schema >= 2 else ())
    assert bool(loop.layer("l1").own) == (schema >= 4)
    assert [group.name for group in loop.groups] == (["Dusk"] if schema >= 4 else [])
    assert bool(loop.layer("l4").level_ride) == (schema >= 5)
    assert loop.line_blend == (0.7 if schema >= 6 else 1.0)
    people = load_document(file_of(schema), clips).credits.people
    assert [one.name for one in people] == (["Ada Wren", "Edda Fenn"] if schema >= 12 else [])


if __name__ == "__main__":
    SOUNDS.write_text(json.dumps({n: sounding(n) for n in SCHEMAS}) + "\n")
