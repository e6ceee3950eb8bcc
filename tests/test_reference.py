"""A recording's tempo, key and chords: from sound that is made here and known."""

from pathlib import Path

import numpy as np
import pytest

from cloudrift.audio.about import About
from cloudrift.audio.buffers import DEFAULT_RATE
from cloudrift.audio.listen import note_weights
from cloudrift.audio.sound_file import write_wav
from cloudrift.ground import CloudriftError
from cloudrift.loop.edits.chords.progression import put_row
from cloudrift.loop.sounding import key_heard
from cloudrift.notes.reference import Reference, first_bars, listen, read_reference
from cloudrift.render import Engine
from cloudrift.style import find_card, sketch
from cloudrift.theory import Key, parse_progression
from cloudrift.theory.fit import KeyGuess, relative_of
from cloudrift.theory.symbols import WrittenChord

pytestmark = pytest.mark.usefixtures("remembering")  # sound is a means here


@pytest.fixture(scope="module")
def engine():
    made = Engine()
    yield made
    made.close()


def recording(engine, key, tempo, row="i VI iv7 V7"):
    loop = sketch(find_card("Marlow Quist"), key, tempo, 3)
    loop = put_row(loop, parse_progression(row, key))
    return loop, engine.render(loop).audio


@pytest.mark.parametrize(
    ("key", "tempo"), [(Key("F#", "minor"), 142.0), (Key("C", "minor"), 93.0),
                       (Key("Bb", "minor"), 120.0)],
)  # fmt: skip
def test_tempo_key_and_chords_are_heard(engine, key, tempo):
    loop, audio = recording(engine, key, tempo)
    found = listen(audio, loop.rate, "x")
    assert min(abs(np.log2(bpm / tempo)) for bpm in found.tempos) < 0.006
    sounding = key_heard(loop)
    best = found.keys[0]
    assert (best.key.pc, best.key.mode) == (sounding.pc, "minor")
    shares = [guess.confidence for guess in found.keys]
    assert len(shares) == 4
    assert 0 < sum(shares) <= 1
    assert shares == sorted(shares, reverse=True)
    wanted = [(c.root + sounding.pc - key.pc) % 12 for c in loop.chords]
    assert [c.tones[0] for c in found.chords][:4] == wanted


def test_note_weights_tell_the_notes_and_the_bass():
    rate = DEFAULT_RATE
    t = np.arange(2 * rate) / rate
    mono = sum(np.sin(2 * np.pi * 440 * 2 ** ((p - 69) / 12) * t) for p in (45, 60, 64))
    every, bass = note_weights(np.stack([mono, mono]).astype(np.float32), rate, np.array([0, 1, 2]))
    assert every.shape == bass.shape == (2, 12)
    assert set(np.argsort(-every[0])[:3]) == {9, 0, 4}
    assert bass[0].argmax() == 9


def test_what_cannot_be_told_is_said(tmp_path):
    with pytest.raises(CloudriftError, match="too few onsets"):
        listen(np.zeros((2, 44_100), np.float32), DEFAULT_RATE, "silence.wav")
    with pytest.raises(CloudriftError, match="could not read"):
        read_reference(tmp_path / "none.wav")


def test_the_first_bars_of_chords_are_cut_where_they_end():
    row = parse_progression("Dm9 G13 | Cmaj7 | F", Key("C", "major"))
    cut = first_bars(row, 2)
    assert [float(c.bars) for c in cut] == [0.5, 0.5, 1.0]
    assert first_bars(row, 0) == ()


def test_a_recording_gives_the_loop_its_tempo_and_key(qtbot, window, engine, tmp_path):
    from cloudrift.desktop.frame.reference_sheet import ReferenceSheet

    loop, audio = recording(engine, Key("C", "minor"), 93.0)
    path = tmp_path / "pier.wav"
    write_wav(path, audio, loop.rate, bits=16, about=About(title="pier"))
    window.importing.open_reference(path)
    qtbot.waitUntil(lambda: bool(window.findChildren(ReferenceSheet)), timeout=60_000)
    sheet = window.findChildren(ReferenceSheet)[0]
    best = int(np.argmin([abs(sheet.heard.tempos.itemData(i) - 93) for i in range(3)]))
    sheet.heard.tempos.setCurrentIndex(best)
    sheet.heard.chords.setChecked(True)
    sheet.take.click()
    session = window.session
    assert session.loop.tempo == pytest.approx(93, abs=0.6)
    assert session.loop.key.mode == "minor"
    assert session.loop.key.pc == key_heard(loop).pc
    assert session.loop.chords
    session.document.undo()
    assert session.loop.tempo == 140
    window.importing.open_reference(tmp_path / "none.wav")
    qtbot.waitUntil(lambda: "could not read" in window.message.text(), timeout=60_000)


@pytest.mark.parametrize("row", ["Am F C G", "Am C F G"])
def test_a_minor_is_not_read_as_its_relative(engine, row):
    key = Key("A", "minor")
    loop = sketch(find_card("Marlow Quist"), key, 93.0, 3)
    loop = put_row(loop, parse_progression(row, key))
    found = listen(engine.render(loop).audio, loop.rate, "x")
    assert found.keys[0].key.mode == "minor"
    assert found.keys[0].key.pc == key_heard(loop).pc
    assert found.keys[0].confidence > 0.5
    assert found.keys[1].key == relative_of(found.keys[0].key)


def test_a_row_that_is_at_home_in_two_keys_is_told_with_little_sureness(engine):
    """Am Dm G C begins in A minor and ends as C major does."""
    loop = sketch(find_card("Marlow Quist"), Key("A", "minor"), 93.0, 3)
    loop = put_row(loop, parse_progression("Am Dm G C", Key("A", "minor")))
    found = listen(engine.render(loop).audio, loop.rate, "x")
    assert found.keys[1].key == relative_of(found.keys[0].key)
    assert found.keys[0].confidence < 0.7
    assert found.keys[1].confidence > 0.3


def test_the_sheet_shows_each_likely_key_and_names_chords_in_the_one_chosen(qtbot, window):
    from cloudrift.desktop.frame.reference_sheet import ReferenceSheet

    keys = [KeyGuess(Key("A", "minor"), 0.62), KeyGuess(Key("C#", "minor"), 0.3)]
    row = [WrittenChord(tones=(10, 1, 5)), WrittenChord(tones=(8, 0, 3))]
    found = Reference(tempos=(93.0,), keys=tuple(keys), chords=tuple(row), start_s=0.0)
    sheet = ReferenceSheet(found, Path("pier.wav"), window.session, window)
    qtbot.addWidget(sheet)
    assert [sheet.heard.keys.itemText(i) for i in range(2)] == [
        "A minor, 62% sure", "C♯ minor, 30% sure"
    ]  # fmt: skip
    assert sheet.heard.names.text() == "B♭m  A♭"  # no bass note that was not heard
    sheet.heard.keys.setCurrentIndex(1)
    assert sheet.heard.names.text() == "A♯m  G♯"
    sheet.accept()
    assert window.session.loop.key == Key("C#", "minor")
