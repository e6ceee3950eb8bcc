import json
import os
import subprocess
import sys

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from cloudrift.audio.clips import ClipStore
from cloudrift.ground import CloudriftError
from cloudrift.loop import Chord, History, load, save
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.chords import chord_edits
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.files import recovery, storage
from cloudrift.loop.files.recovery import Shelter
from cloudrift.loop.files.storage import SCHEMA, loop_from, to_bytes
from cloudrift.loop.model.document import Document
from cloudrift.theory import SCALES, Key
from cloudrift.theory.pitch import FLAT_NAMES, SHARP_NAMES
from tests.conftest import file_text, in_schema

keys = st.builds(
    Key, st.sampled_from(sorted({*SHARP_NAMES, *FLAT_NAMES})), st.sampled_from(sorted(SCALES))
)


# --- edits --------------------------------------------------------------------------------------


@given(key=st.sampled_from([Key(n, "minor") for n in SHARP_NAMES]))
def test_moving_the_key_there_and_back_is_the_identity(bare_chords, key):
    there = loop_edits.set_key(bare_chords, key)
    for before, after in zip(bare_chords.chords, there.chords, strict=True):
        shift = after.voices[0] - before.voices[0]
        assert -6 <= shift <= 6
        assert [v + shift for v in before.voices] == list(after.voices)
        assert before.read(bare_chords.key).degree == after.read(key).degree
    back = loop_edits.set_key(there, bare_chords.key)
    assert [{v % 12 for v in c.voices} for c in back.chords] == [
        {v % 12 for v in c.voices} for c in bare_chords.chords
    ]


def test_changing_the_mode_keeps_degrees(bare_chords):
    dorian = loop_edits.set_key(bare_chords, Key("F#", "dorian"))
    assert [c.read(dorian.key).name for c in dorian.chords][:2] == ["F#m", "D#°/D#"[:3]]
    assert all(dorian.key.has(v) for c in dorian.chords[:3] for v in c.voices)


@given(degree=st.integers(1, 7), seventh=st.booleans(), which=st.integers(0, 3))
def test_a_chosen_degree_is_what_is_read_back(bare_chords, degree, seventh, which):
    chord_id = bare_chords.chords[which].id
    after = chord_edits.set_degree(bare_chords, chord_id, degree, count=3 + (seventh))
    chord = after.chord(chord_id)
    assert chord.root == bare_chords.key.scale[degree - 1]
    assert len({v % 12 for v in chord.voices}) == 3 + seventh
    assert chord.voices[0] % 12 == chord.root  # the bass below stays the root
    assert chord.voices[1] - chord.voices[0] >= 5
    others = [c for c in after.chords if c.id != chord_id]
    assert others == [c for c in bare_chords.chords if c.id != chord_id]


@given(which=st.integers(0, 3))
def test_a_seventh_comes_and_goes(bare_chords, which):
    chord_id = bare_chords.chords[which].id
    with_it = chord_edits.set_extension(bare_chords, chord_id, "7", True)
    without = chord_edits.set_extension(with_it, chord_id, "7", False)

    def pcs(loop):
        return {v % 12 for v in loop.chord(chord_id).voices}

    assert len(pcs(with_it)) == len(pcs(bare_chords)) + 1
    assert pcs(without) == pcs(bare_chords)


@given(voice=st.integers(0, 3), steps=st.integers(-5, 5))
def test_dragging_a_voice_moves_one_voice_and_never_doubles(bare_chords, voice, steps):
    chord = bare_chords.chords[0]
    after = chord_edits.move_voice(bare_chords, chord.id, voice, steps=steps).chord(chord.id)
    assert len(set(after.voices)) == len(chord.voices)
    assert len(set(after.voices) - set(chord.voices)) <= 1
    if steps:
        assert all(bare_chords.key.has(v) for v in after.voices)


def test_a_longer_loop_repeats_and_a_shorter_one_is_cut(bare_chords):
    longer = loop_edits.set_bars(bare_chords, 12)
    assert [c.read(longer.key).name for c in longer.chords] == ["F#m", "D", "Bm", "C#", "F#m", "D"]
    assert len({c.id for c in longer.chords}) == 6
    shorter = loop_edits.set_bars(longer, 3)
    assert [(c.start_tick, c.length_ticks) for c in shorter.chords] == [(0, 7680), (7680, 3840)]


def test_lines_are_edited_in_place(small_loop):
    loop = line_edits.add_treatment(small_loop, None, "hall")
    added = loop.line[-1]
    assert added.blend == 0.35
    loop = line_edits.move_treatment(loop, None, added.id, -2)
    assert [t.kind for t in loop.line] == ["hall", "weathering", "cuts"]
    loop = line_edits.set_treatment_setting(loop, None, added.id, "decay_s", 5.0)
    assert loop.line[0].full["decay_s"] == 5.0
    assert line_edits.remove_treatment(loop, None, added.id) == small_loop
    layer = small_loop.layers[0]
    moved = line_edits.add_treatment(small_loop, layer.id, "reverse")
    assert moved.layer(layer.id).line[-1].kind == "reverse"
    assert moved.line == small_loop.line


def test_layers_follow_their_sound(small_loop):
    loop = layer_edits.add_layer(small_loop, "round sub")
    assert (loop.layers[-1].source.lens.kind, loop.layers[-1].role) == ("bass", "bass")
    loop = layer_edits.set_sound(loop, loop.layers[-1].id, "warm pad")
    assert (loop.layers[-1].role, loop.layers[-1].source.sound.settings) == ("pad", ())
    assert layer_edits.remove_layer(loop, loop.layers[-1].id) == small_loop


@pytest.mark.parametrize(
    ("edit", "says"),
    [
        (
            lambda p: loop_edits.set_tempo(p, 9999),
            "tempo is 9999 BPM, but must lie between 40 and 240 BPM",
        ),
        (lambda p: loop_edits.set_bars(p, 65), "bars is 65"),
        (lambda p: loop_edits.set_title(p, "  "), "needs a name"),
        (lambda p: layer_edits.set_layer(p, p.layers[0].id, pan=2.0), "pan is 2"),
        (lambda p: chord_edits.set_degree(p, "c1", 9), "degrees go from 1 to 7"),
        (lambda p: chord_edits.set_degree(p, "zz", 1), "no chord 'zz'"),
        (lambda p: layer_edits.add_layer(p, "felt uprite"), "did you mean 'felt upright'"),
    ],
)
def test_edits_that_make_no_loop_are_refused(small_loop, edit, says):
    with pytest.raises(CloudriftError, match=says):
        edit(small_loop)


def test_chords_may_not_overlap(bare_chords):
    crossing = msgspec.structs.replace(bare_chords.chords[1], start_tick=100)
    with pytest.raises(CloudriftError, match="starts before the one before it has ended"):
        msgspec.structs.replace(bare_chords, chords=(bare_chords.chords[0], crossing))


def test_only_what_is_on_is_heard(small_loop):
    first, second, *_ = small_loop.layers
    assert layer_edits.set_layer(small_loop, first.id, mute=True).heard() == small_loop.layers[1:]
    grouped = layer_edits.group_layers(small_loop, [first.id, second.id])
    assert layer_edits.set_group(grouped, "g1", mute=True).heard() == grouped.layers[2:]


# --- history ------------------------------------------------------------------------------------


def test_undo_and_redo_bring_the_very_same_loops(small_loop):
    history = History.of(small_loop)
    loops = [small_loop]
    for tempo in (100, 110, 120):
        loops.append(loop_edits.set_tempo(loops[-1], tempo))
        history = history.then(Document.of(loops[-1]), f"tempo {tempo}")
    for wanted in reversed(loops[:-1]):
        history = history.undone()
        assert history.now.loop is wanted
    assert not history.can_undo
    for wanted in loops[1:]:
        history = history.redone()
        assert history.now.loop is wanted
    branched = history.undone().then(Document.of(small_loop), "back")
    assert not branched.can_redo
    assert len(branched.moments) == len(history.moments)  # what had been undone is dropped
    assert branched.undone().now.loop is loops[-2]


def test_a_drag_is_one_step_and_nothing_is_none(small_loop):
    def at_tempo(tempo):
        return Document.of(loop_edits.set_tempo(small_loop, tempo))

    history = History.of(small_loop)
    for tempo in range(100, 120):
        history = history.then(at_tempo(tempo), "tempo", "drag tempo")
    assert len(history.moments) == 2
    history = history.closed().then(at_tempo(90), "tempo", "drag tempo")
    assert len(history.moments) == 3
    assert history.then(history.now, "same") is history
    assert history.undone().now.loop.tempo == 119


# --- files --------------------------------------------------------------------------------------


def test_a_loop_survives_its_file_and_the_file_is_always_the_same(small_loop, tmp_path):
    save(small_loop, tmp_path / "a.cloudrift")
    assert load(tmp_path / "a.cloudrift") == small_loop
    assert to_bytes(small_loop) == to_bytes(load(tmp_path / "a.cloudrift"))


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        (b'"tempo": 140', b'"tempo": 0', r"tempo is 0 BPM, but must lie between 40 and 240"),
        (
            b'"role": "keys"',
            b'"role": "piano"',
            r"loop\.layers\[0\]\.role: Invalid enum value 'piano'",
        ),
        (b'"mode": "minor"', b'"mode": "minr"', r"loop\.key: .*did you mean 'minor'"),
        (b'"crackle_db"', b'"crakle_db"', r"loop\.line\[0\]: .*did you mean 'crackle_db'"),
        (b'"bars": 2', b'"bars": "two"', r"loop\.bars: Expected `int`, got `str`"),
        (f'"schema": {SCHEMA}'.encode(), b'"schema": 99', r"schema 99, newer than"),
        (f'"schema": {SCHEMA}'.encode(), b'"schema": 0', r"schema 0, which does not exist"),
        (b'"chords"', b'"cords"', r"unknown field `cords`"),
        (b'"format": "cloudrift loop"', b'"format": "x"', r"does not say"),
        (b"{", b"[", r"is not a loop"),
    ],
)
def test_a_hand_edited_file_names_the_place(small_loop, old, new, says):
    text = file_text(small_loop)
    assert old in text
    with pytest.raises(CloudriftError, match=says):
        loop_from(text.replace(old, new, 1), "a.cloudrift")


def test_every_problem_is_said_at_once(small_loop):
    text = (
        file_text(small_loop)
        .replace(b'"role": "keys"', b'"role": "felt"')
        .replace(b'"crackle_db"', b'"cracks"')
    )
    with pytest.raises(CloudriftError) as error:
        loop_from(text, "a.cloudrift")
    assert "'felt'" in str(error.value)
    assert "'cracks'" in str(error.value)


@pytest.mark.parametrize("share", [0.0, 0.3, 0.9])
def test_a_truncated_file_is_said_and_left_alone(small_loop, tmp_path, share):
    path = tmp_path / "a.cloudrift"
    save(small_loop, path)
    data = path.read_bytes()
    path.write_bytes(data[: int(len(data) * share)])
    with pytest.raises(CloudriftError, match="not a complete loop file"):
        load(path)
    assert len(path.read_bytes()) == int(len(data) * share)


def test_a_share_of_the_length_is_the_tick_that_it_was_made_of(small_loop):
    ticks = small_loop.ticks
    assert [small_loop.tick_at(k / ticks) for k in range(ticks)] == list(range(ticks))
    assert small_loop.tick_at(1.0) == 0  # it goes round


def test_a_file_that_is_not_there_is_said(tmp_path):
    with pytest.raises(CloudriftError, match="there is no file"):
        load(tmp_path / "none.cloudrift")


# In a process of its own, which has little in memory: children of it begin in a moment.
SAVE_AND_DIE = """
import os, signal, sys
from pathlib import Path
from cloudrift.loop import load, save

old, new, path = map(Path, sys.argv[1:])
old, new = load(old), load(new)

def dies_at(line):
    # In a child: save, and end by SIGKILL at the n-th line that has to do with the disk.
    child = os.fork()
    if child == 0:
        count = 0

        def trace(frame, _event, _argument):
            nonlocal count
            name = frame.f_code.co_filename
            if not name.endswith(("audio/files.py", "loop/files/storage.py", "tempfile.py")):
                return None
            count += 1
            if count >= line:
                os.kill(os.getpid(), signal.SIGKILL)
            return trace

        sys.settrace(trace)
        try:
            save(new, path)
        finally:
            sys.settrace(None)
            os._exit(0)
    return os.WIFSIGNALED(os.waitpid(child, 0)[1])

line = 0
while True:
    line += 1
    save(old, path)
    died = dies_at(line)
    found = load(path)
    print("old" if found == old else "new" if found == new else f"torn at {line}")
    if not died:
        break
"""


def test_killed_at_any_moment_of_a_save_the_old_or_the_new_file_is_whole(small_loop, tmp_path):
    paths = [str(tmp_path / f"{name}.cloudrift") for name in ("old", "new", "a")]
    save(small_loop, tmp_path / "old.cloudrift")
    save(loop_edits.set_tempo(small_loop, 99), tmp_path / "new.cloudrift")
    done = subprocess.run([sys.executable, "-c", SAVE_AND_DIE, *paths], capture_output=True,
                          text=True, check=True, timeout=120)  # fmt: skip
    found = done.stdout.split("\n")[:-1]
    assert len(found) > 30  # many moments were tried
    assert set(found) == {"old", "new"}
    assert found[-1] == "new"


def test_a_full_disk_leaves_the_old_file(small_loop, tmp_path, monkeypatch):
    path = tmp_path / "a.cloudrift"
    save(small_loop, path)
    before = path.read_bytes()

    def full(_handle):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(CloudriftError, match=r"could not write .*No space left"):
        save(loop_edits.set_tempo(small_loop, 99), path)
    assert path.read_bytes() == before


def test_a_folder_that_is_not_there_is_said(small_loop, tmp_path):
    with pytest.raises(CloudriftError, match=r"could not write .*No such file or directory"):
        save(small_loop, tmp_path / "none" / "a.cloudrift")


def test_work_of_a_crashed_program_is_found_and_of_a_running_one_not(small_loop, tmp_path):
    folder = tmp_path / "unsaved"
    shelter = Shelter(folder)
    kept = shelter.keep(small_loop, tmp_path / "Ice Road.cloudrift", ClipStore())
    assert recovery.left_behind(ClipStore(), folder) == []
    dead = kept.rename(folder / "999999.cloudrift")
    (folder / "999998.cloudrift").write_bytes(b"broken")
    (found,) = recovery.left_behind(ClipStore(), folder)
    assert (found.document.loop, found.origin, found.file) == (
        small_loop,
        tmp_path / "Ice Road.cloudrift",
        dead,
    )


def test_older_schemas_are_brought_up(small_loop, monkeypatch):
    document = in_schema(json.loads(file_text(small_loop)), 1)
    for chord in document["loop"]["chords"]:
        for field in ("muted", "tied", "late_ticks", "strikes", "gate", "touch"):
            del chord[field]  # schema 1 knew none of them
    assert loop_from(json.dumps(document).encode(), "a") == small_loop
    monkeypatch.setitem(storage.MIGRATIONS, 2, lambda d: {**d, "loop": {**d["loop"], "kit": "old"}})
    assert loop_from(json.dumps(document).encode(), "a").kit == "old"


def test_a_chord_must_have_voices_in_reach():
    for voices, says in (((), "number of voices is 0"), ((3,), "voice is 3")):
        with pytest.raises(CloudriftError, match=says):
            Chord(id="c", start_tick=0, length_ticks=1, voices=voices, root=0)
