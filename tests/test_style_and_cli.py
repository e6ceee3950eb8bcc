import io
import json
import subprocess
import sys
import tomllib

import mido
import numpy as np
import pytest
import soundfile
from hypothesis import given
from hypothesis import strategies as st

from cloudrift.audio.clips import ClipStore
from cloudrift.deliver import Order, deliver, parcels
from cloudrift.deliver.names import slug, stem_of
from cloudrift.deliver.rights import rights_of
from cloudrift.demo import demo_document, demo_loops, unpack
from cloudrift.ground import CloudriftError
from cloudrift.ground.cancel import Cancelled
from cloudrift.loop import load, save
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.sounding import key_heard, notes_of
from cloudrift.style import find_card, house_cards, read_card, sketch
from cloudrift.theory import Key, parse_key
from tests.conftest import db, run

pytestmark = pytest.mark.usefixtures("remembering")  # sound is a means here

CARDS = sorted(house_cards())


# --- style cards --------------------------------------------------------------------------------


@given(st.sampled_from(CARDS), st.integers(1, 200), st.sampled_from([1, 2, 3, 4, 5, 7, 8, 12, 16]))
def test_every_draw_of_every_card_is_a_loop_in_its_style(name, variation, bars):
    card = find_card(name)
    loop = sketch(card, variation=variation, bars=bars)
    assert sketch(card, variation=variation, bars=bars) == loop
    assert card.tempo.low <= loop.tempo <= card.tempo.high
    assert loop.key.mode in card.key.modes
    low, high = card.layer_counts
    assert low <= len(loop.layers) <= high
    assert loop.chords[0].start_tick == 0
    assert sum(c.length_ticks for c in loop.chords) == loop.ticks
    names = [c.root for c in loop.chords]
    if bars >= 4:
        assert len(set(names)) >= 2
    assert all(30 <= v <= 90 for c in loop.chords for v in c.voices)


def test_draws_differ_and_what_is_asked_for_is_kept():
    card = find_card("Edda Fenn")
    loops = [
        sketch(card, parse_key("Bb minor"), 91.5, variation, bars=4) for variation in range(1, 9)
    ]
    assert {(loop.key.plain, loop.tempo, loop.bars) for loop in loops} == {("Bb minor", 91.5, 4)}
    assert len({loop.chords for loop in loops}) >= 6
    assert len({loop.layers for loop in loops}) == 8


def test_the_first_chord_follows_the_grammar():
    card = find_card("Marlow Quist")
    roots = {
        c: sketch(card, Key("C", "minor"), variation=c).chords[0].read(Key("C", "minor")).degree
        for c in range(1, 30)
    }
    assert {degree[:2].rstrip("7") for degree in roots.values()} <= {"i", "VI"}


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        ('"felt upright"', '"felt"', "there is no sound called 'felt'"),
        ("usual = 142", "usual = 1420", r"tempo\.usual"),
        ('modes = ["minor"', 'modes = ["minr"', "did you mean 'minor'"),
        ('starts = ["i"', 'starts = ["j"', "'j' is not a degree"),
        ('starts = ["i"', 'starts = ["III"', "does not say what follows III"),
        ("vary_end", "vary_ending", "unknown field `vary_ending`"),
        ("[tempo]", "[tempo", "is not TOML"),
    ],
)
def test_a_bad_card_names_the_place(old, new, says):
    from importlib import resources

    text = (resources.files("cloudrift.style") / "cards" / "marlow-quist.toml").read_text()
    assert old in text
    with pytest.raises(CloudriftError, match=says):
        read_card(text.replace(old, new, 1), "card.toml")


@pytest.mark.parametrize("name", CARDS)
def test_house_cards_are_as_sound_as_others_have_to_be(name):
    """They are not looked at when the program starts."""
    from importlib import resources

    folder = resources.files("cloudrift.style") / "cards"
    texts = {read_card(f.read_text(), f.name).name: f for f in folder.iterdir() if "toml" in f.name}
    assert name in texts
    assert read_card(texts[name].read_text(), "x") == house_cards()[name]


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        ("roll_ms = [10, 40]", "roll_ms = [10, 4000]", "roll_ms is 4000, but must lie"),
        ("roll_ms = [10, 40]", "roll_ms = [40, 10]", "from 40 to 10 is not a range"),
        ("roll_ms = [10, 40]", "rolls_ms = 4", "there is no touch called 'rolls_ms'"),
        ("roll_ms = [10, 40]", 'roll_ms = "much"', r"touch\.roll_ms"),
        ("roll_ms = [10, 40]", 'velocity = "hall"', r"touch\.velocity"),
        ("felt = [60, 90]", "felt = [60, 900]", "felt is 900 %, but must lie"),
        ("felt = [60, 90]", "feld = 60", "did you mean 'felt'"),
        ("usual = 142", "usual = 10", r"tempo\.usual"),
        ("usual = 142", "usual = 200", "the usual tempo must lie between"),
        ('starts = ["i"', "starts = [] #", r"length >= 1"),
        ("low = 53", "low = 80", "at least an octave apart"),
        ("low = 53", "low = -1000000000000", r"voicing\.low"),
    ],
)
def test_a_card_is_looked_at_as_far_as_any_draw_can_go(old, new, says):
    text = HOSTILE_CARD
    assert old in text
    read_card(text, "card.toml")
    with pytest.raises(CloudriftError, match=says) as error:
        read_card(text.replace(old, new, 1), "card.toml")
    assert "card.toml" in str(error.value)


def test_every_chord_of_a_card_has_another_to_follow():
    with pytest.raises(CloudriftError, match="only iv follows iv"):
        read_card(HOSTILE_CARD.replace('iv = ["i"]', 'iv = ["iv"]'), "card.toml")


HOSTILE_CARD = """
name = "Jetty"
about = "x"
[tempo]
low = 120
high = 150
usual = 142
[key]
tonics = ["C", "F#"]
modes = ["minor"]
[chords]
starts = ["i"]
ends = ["iv"]
rhythms = [[1, 1]]
[chords.next]
i = ["iv"]
iv = ["i"]
[voicing]
low = 53
high = 74
[[layers]]
name = "Keys"
sound = "felt upright"
touch = { roll_ms = [10, 40] }
settings = { felt = [60, 90] }
"""


# --- delivery -----------------------------------------------------------------------------------


def test_names_carry_title_tempo_and_key():
    assert (
        stem_of("Polar Night II", 142.0, Key("F#", "minor")) == "polar-night-ii_142bpm_fsharp-minor"
    )
    assert stem_of("É B♭!", 119.4142, Key("Bb", "major")) == "e-bflat_119.41bpm_bflat-major"
    assert slug("  ") == "loop"


def test_everything_ordered_is_written(small_loop, tmp_path):
    moved = []
    paths = deliver(small_loop, tmp_path / "new" / "folder", Order(parts=("loop", "stems", "midi")),
                    progress=lambda done, of, name: moved.append((done, of)))  # fmt: skip
    assert [p.name for p in paths] == [
        p.name for p in parcels(small_loop, Order(parts=("loop", "stems", "midi")))
    ]
    assert len(paths) == 3 + len(small_loop.layers)
    looked_at = [(i, 14) for i, path in enumerate(paths) if path.suffix == ".wav"]
    assert moved == [*looked_at, *((i, 14) for i in range(7, 15))]
    audio = {p.name: soundfile.read(p)[0] for p in paths if p.suffix == ".wav"}
    assert {len(a) for a in audio.values()} == {small_loop.frames}
    stems = sum(a for name, a in audio.items() if "_stem-" in name)
    bare = next(a for name, a in audio.items() if "_bare" in name)
    assert db(np.abs(stems - bare).max()) < -90
    notes = mido.MidiFile(paths[-1])
    assert len(notes.tracks) == 1 + len(small_loop.layers)
    played = sum(m.type == "note_on" for t in notes.tracks for m in t)
    assert played == sum(len(notes_of(small_loop, layer)) for layer in small_loop.layers)


def test_a_treated_loop_is_named_by_what_is_heard(small_loop):
    loop = line_edits.add_treatment(small_loop, None, "shift")
    for name, value in (("semitones", -3.0), ("way", "like tape")):
        loop = line_edits.set_treatment_setting(loop, None, loop.line[-1].id, name, value)
    names = [p.name for p in parcels(loop, Order(parts=("loop", "stems")))]
    assert names[0] == "ice-road_117.73bpm_dsharp-minor.wav"
    assert names[1] == "ice-road_140bpm_fsharp-minor_bare.wav"


def test_nothing_to_hear_and_nowhere_to_write_are_said(small_loop, tmp_path):
    silent = small_loop
    for layer in small_loop.layers:
        silent = layer_edits.set_layer(silent, layer.id, mute=True)
    with pytest.raises(CloudriftError, match="no layer plays"):
        deliver(silent, tmp_path, Order())
    (tmp_path / "file").write_text("x")
    with pytest.raises(CloudriftError, match="could not make the folder"):
        deliver(small_loop, tmp_path / "file" / "in", Order())
    with pytest.raises(Cancelled):
        deliver(small_loop, tmp_path, Order(), cancelled=lambda: True)
    assert [p.name for p in tmp_path.iterdir() if p.suffix == ".wav"] == []


# --- the demo kit -------------------------------------------------------------------------------


def test_the_demo_kit_shows_written_and_sounding():
    polar, slow, *_ = demo_loops()
    assert (polar.title, polar.kit, polar.key.plain) == ("Polar Night II", "Dome Show", "F# minor")
    assert key_heard(polar).plain == "D# minor"
    assert [c.read(polar.key).name for c in polar.chords] == ["F#m", "Dmaj7", "Bm7", "C#7"]
    assert slow.sounding_tempo < slow.tempo
    assert any(t.kind == "reverse" for layer in slow.layers for t in layer.line)


def test_unpacking_the_kit_keeps_changes(tmp_path):
    _, first, *others = unpack(tmp_path)
    assert len(others) == 3
    changed = loop_edits.set_tempo(load(first), 120)
    save(changed, first)
    unpack(tmp_path)
    assert load(first) == changed


def test_the_demo_kit_has_something_for_every_stage(tmp_path):
    documents = []
    for loop in demo_loops():
        clips = ClipStore()
        documents.append(demo_document(loop, clips))
        rights = rights_of(documents[-1])
        assert rights.open == () and len(rights.credits.people) == 2, loop.title
        assert documents[-1].arrangement.sections
    polar = documents[0]
    (flip,) = (x.flipped for x in polar.loop.layers if x.flipped is not None)
    assert len(flip.places) == 16 and any(place.backward for place in flip.places)
    assert any(x.recorded is not None and x.flipped is None for x in polar.loop.layers)
    assert any(x.level_ride is not None for x in polar.loop.layers)
    assert any(section.seam.happens for section in polar.arrangement.sections)
    assert polar.demo.parts and polar.loop.lanes
    assert [bool(d.loop.bed and not d.loop.bed.group.mute) for d in documents].count(True) == 1
    assert any(t.rides for t in documents[3].loop.line)
    assert documents[4].loop.groups and any(not x.follows for x in documents[4].loop.layers)


# --- the command line ---------------------------------------------------------------------------


def test_a_loop_from_four_commands(tmp_path, capsys):
    loop = tmp_path / "ice-road.cloudrift"
    assert run("new", "--style", "Marlow Quist", "--key", "F# minor", "--tempo", 142, "--bars", 2,
               "--variation", 7, "-o", loop) == 0  # fmt: skip
    assert run("info", loop, "--json") == 0
    facts = json.loads(capsys.readouterr().out.split("\n", 1)[1])
    assert (facts["key"], facts["tempo"], facts["bars"]) == ("F# minor", 142, 2)
    assert facts["frames"] == round(2 * 4 * 60 / 142 * 44_100)
    for chord in facts["chords"]:
        assert set(chord) == {
            "name",
            "root",
            "bass",
            "degree",
            "start_tick",
            "length_ticks",
            "voices",
        }
        assert chord["bass"] == min(chord["voices"]) % 12
    assert all(layer["notes"] > 0 and layer["sound"] for layer in facts["layers"])
    assert run("render", loop, "-o", tmp_path / "out", "--stems", "--midi", "--bits", 16) == 0
    names = sorted(p.name for p in (tmp_path / "out").iterdir())
    assert "ice-road_142bpm_fsharp-minor.wav" in names
    assert soundfile.info(tmp_path / "out" / "ice-road_142bpm_fsharp-minor.wav").subtype == "PCM_16"
    assert run("render", loop, "-o", tmp_path / "out", "--once", "--rate", 48_000) == 0
    once = soundfile.info(tmp_path / "out" / "ice-road_142bpm_fsharp-minor_once.wav")
    assert once.samplerate == 48_000
    assert once.frames > 2 * 4 * 60 / 142 * 48_000


def test_the_same_command_writes_the_same_file(tmp_path):
    for name in ("a", "b"):
        assert (
            run(
                "new",
                "--style",
                "Edda Fenn",
                "--variation",
                5,
                "--title",
                "x",
                "-o",
                tmp_path / name,
            )
            == 0
        )
    assert (tmp_path / "a.cloudrift").read_bytes() == (tmp_path / "b.cloudrift").read_bytes()


def test_sounds_and_single_notes(tmp_path, capsys):
    assert run("sounds", "--json") == 0
    listed = json.loads(capsys.readouterr().out)
    assert {"felt upright", "warm pad", "muted pluck", "round sub"} <= {s["name"] for s in listed}
    assert run("sounds", "dark", "--family", "pads", "--json") == 0
    names = [s["name"] for s in json.loads(capsys.readouterr().out)]
    assert set(names) == {"warm pad", "dust pad", "metallic drone"}
    assert run("sounds", "--reach", "low", "deep") == 0
    assert "round sub        bass     Plain" in capsys.readouterr().out
    assert run("sounds", "nothing", "like", "it") == 0
    assert "no sound found" in capsys.readouterr().out
    assert run("sounds", "--family", "kazoos") == 2
    assert "'kazoos' is not one of keys, organ" in capsys.readouterr().err
    assert (
        run("note", "felt upright", "--pitch", 69, "--length", 1.0, "-o", tmp_path / "a.wav") == 0
    )
    audio, rate = soundfile.read(tmp_path / "a.wav")
    power = np.abs(np.fft.rfft(audio[:, 0]))
    assert np.fft.rfftfreq(len(audio), 1 / rate)[power.argmax()] == pytest.approx(440, abs=2)


def test_info_speaks_to_people_too(tmp_path, capsys):
    path = unpack(tmp_path)[0]
    assert run("info", path) == 0
    said = capsys.readouterr().out
    assert "sounding  D♯ minor" in said
    assert "C♯7 (V7)" in said


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (("new", "--style", "Nobody", "-o", "x"), "there is no style card called 'Nobody'"),
        (("new", "--style", "Edda Fen", "-o", "x"), "did you mean 'Edda Fenn'"),
        (
            ("new", "--style", "Edda Fenn", "--key", "H minor", "-o", "x"),
            "there is no note called 'H'",
        ),
        (("new", "--style", "Edda Fenn", "--tempo", "0", "-o", "x"), "tempo is 0 BPM"),
        (("new", "--style", "Edda Fenn", "--tempo", "9999", "-o", "x"), "tempo is 9999 BPM"),
        (("new", "--style", "Edda Fenn", "--bars", "0", "-o", "x"), "bars is 0"),
        (("info", "none.cloudrift"), "there is no file none.cloudrift"),
        (("render", "none.cloudrift", "-o", "x"), "there is no file none.cloudrift"),
        (("note", "trumpet", "-o", "x.wav"), "there is no sound called 'trumpet'"),
        (("note", "warm pad", "--pitch", "400", "-o", "x.wav"), "400 is not in the range"),
        (("none.cloudrift",), "there is no file none.cloudrift"),
        (("render",), "Missing argument"),
    ],
)
def test_bad_input_is_one_sentence_and_code_two(arguments, says, capsys, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    assert run(*arguments) == 2
    said = capsys.readouterr().err
    assert says in said
    assert said.startswith("cloudrift: ")
    assert said.count("\n") == 1
    assert list(tmp_path.glob("*.cloudrift")) == []


def test_what_fails_although_it_was_asked_rightly_has_code_one(capsys):
    assert run("new", "--style", "Edda Fenn", "-o", "/proc/none/x") == 1
    said = capsys.readouterr().err
    assert said.startswith("cloudrift: could not write /proc/none/x.cloudrift: ")
    assert said.count("\n") == 1


def test_a_full_disk_while_rendering_is_said_and_leaves_no_half_file(
    small_loop, tmp_path, monkeypatch
):
    import os

    def full(_handle):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(
        CloudriftError, match=r"could not write .*_fsharp-minor\.wav: No space left"
    ):
        deliver(small_loop, tmp_path / "out", Order())
    assert list((tmp_path / "out").iterdir()) == []


@pytest.mark.parametrize("command", [("demo",), ()])
def test_a_missing_display_is_one_sentence(command, tmp_path):
    import os

    env = {
        k: v
        for k, v in os.environ.items()
        if k not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")
    }
    called = [sys.executable, "-m", "cloudrift", *command]
    done = subprocess.run(called, env=env, capture_output=True,
                          text=True, timeout=60, check=False)  # fmt: skip
    assert done.returncode == 2
    assert "there is no display" in done.stderr
    assert "xvfb-run" in done.stderr
    assert done.stderr.count("\n") == 1


def test_several_files_are_rendered_in_one_go(tmp_path, capsys):
    for variation in (1, 2, 3):
        assert (
            run(
                "new",
                "--style",
                "Edda Fenn",
                "--bars",
                1,
                "--variation",
                variation,
                "-o",
                tmp_path / f"n{variation}",
            )
            == 0
        )
    capsys.readouterr()
    assert run("render", *sorted(tmp_path.glob("*.cloudrift")), "-o", tmp_path / "out") == 0
    assert len(list((tmp_path / "out").glob("*.wav"))) == 3


def test_the_shipped_cards_are_plain_toml():
    from importlib import resources

    files = (resources.files("cloudrift.style") / "cards").iterdir()
    for file in (one for one in files if one.name.endswith(".toml")):
        assert tomllib.load(io.BytesIO(file.read_bytes()))["name"] in CARDS
