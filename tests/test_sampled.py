"""Sampled instruments: read from SF2 and SFZ, played where they are meant to, and what is not."""

from pathlib import Path

import numpy as np
import pytest
import soundfile
from PyQt6.QtCore import QMimeData, QUrl

from cloudrift.audio.clips import ClipStore
from cloudrift.desktop.kit.dropped import MIDI_FILES, ONE_SHOTS, RECORDED, SAMPLED, dropped
from cloudrift.desktop.stages.shelf.sampled_sheet import SampledSheet
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.files.storage import load, save
from cloudrift.notes.note import Note
from cloudrift.notes.time import Clock
from cloudrift.sound.instrument import ToneRequest
from cloudrift.sound.own import OwnSound, Recording, recordings_for
from cloudrift.sound.own_files import load_own, save_own
from cloudrift.sound.part import Part
from cloudrift.sound.sampled import names_in, own_from, read_sampled
from cloudrift.sound.sampled.zones import said
from cloudrift.sound.tones import ToneCache
from tests.hands import settled
from tools.sampled_files import RATE, sf2, tone

MONO, RIGHT, LEFT = 1, 2, 4


def written(path, body):
    path.write_bytes(body) if isinstance(body, bytes) else path.write_text(body)
    return path


def one_zone(tmp_path, *, sample=None, **generators):
    """An SF2 with one preset of one zone."""
    sample = sample or ("Bell", tone(440), RATE, 69, 0, (2205, 4410), MONO, 0)
    zone = {**generators, "sample": 0}
    body = sf2([sample], [("Inst", [zone])], [("Harbour bell", [{"instrument": 0}])])
    return written(tmp_path / "one.sf2", body)


def hz_of(audio, rate):
    mono = audio[0] * np.hanning(audio.shape[1])
    spectrum = np.abs(np.fft.rfft(mono, 1 << 19))
    return float(np.argmax(spectrum)) * rate / (1 << 19)


def played(own, clips, pitch, *, velocity=100, variant=0, seconds=0.4, rate=44_100):
    instrument = own.instrument
    full = instrument.spec.full(own.settings)
    return instrument.tone(ToneRequest(
        pitch=pitch, variant=variant, frames=int(seconds * rate), rate=rate, settings=full,
        clips=clips, velocity=instrument.band(velocity),
    )).hard  # fmt: skip


# --- SF2 ------------------------------------------------------------------------------------------


def test_a_zone_of_an_sf2_is_a_recording_with_its_root_loop_and_envelope(tmp_path):
    path = one_zone(tmp_path, keys=(60, 80), velocities=(10, 90), modes=1, attenuation=60,
                    attack=0, decay=1200, sustain=200, release=1200)  # fmt: skip
    assert names_in(path) == ["Harbour bell"]
    sampled = read_sampled(path)
    (zone,) = sampled.zones
    assert (zone.keys, zone.velocities, zone.root) == ((60, 80), (10, 90), 69.0)
    assert (zone.loop, zone.gain_db) == ((2205, 4410), -6.0)
    assert zone.shape.attack_s == 1.0 and zone.shape.decay_s == zone.shape.release_s == 2.0
    assert zone.shape.sustain == pytest.approx(0.1)
    clips = ClipStore()
    own = own_from(sampled, clips, "CC0 by Otter Bay")
    assert dict(own.settings) == {"attack_ms": 1000.0, "decay_ms": 1200.0, "release_ms": 1200.0,
                                  "sustain": 10.0}  # fmt: skip
    (recording,) = own.recordings
    assert (recording.keys, recording.velocities) == ((60, 80), (10, 90))
    assert recording.loop_from == pytest.approx(20.0) and recording.loop_to == pytest.approx(40.0)
    assert (own.name, own.licence, own.plays) == ("Harbour bell", "CC0 by Otter Bay", "own loops")
    audio, rate = clips.read(recording.clip)
    assert rate == RATE and hz_of(audio, rate) == pytest.approx(440, abs=0.5)


@pytest.mark.parametrize(("given", "correction", "root"), [
    ({}, 0, 69.0), ({"root": 57}, 0, 57.0), ({"coarse": 12}, 0, 57.0), ({"fine": -50}, 0, 69.5),
    ({}, 20, 68.8), ({"coarse": -1, "fine": 25}, 5, 69.7),
])  # fmt: skip
def test_tuning_moves_the_root(tmp_path, given, correction, root):
    sample = ("Bell", tone(440), RATE, 69, correction, None, MONO, 0)
    (zone,) = read_sampled(one_zone(tmp_path, sample=sample, **given)).zones
    assert zone.root == pytest.approx(root)


@pytest.mark.parametrize("pitch", [57, 69, 76])
def test_it_sounds_the_pitch_that_is_asked_for_within_a_cent(tmp_path, pitch):
    clips = ClipStore()
    own = own_from(read_sampled(one_zone(tmp_path, modes=1)), clips)
    audio = played(own, clips, pitch, seconds=2.0)
    wanted = 440 * 2 ** ((pitch - 69) / 12)
    assert abs(1200 * np.log2(hz_of(audio, 44_100) / wanted)) < 1.0


def test_a_loop_of_its_own_goes_on_without_a_step_and_without_one_it_ends(tmp_path):
    clips = ClipStore()
    # Ten periods of 441 Hz: 50 frames each.
    sample = ("Tine", tone(441), RATE, 69, 0, (1000, 1500), MONO, 0)
    rings = own_from(read_sampled(one_zone(tmp_path, sample=sample, modes=1)), clips)
    audio = played(rings, clips, 69, seconds=3.0)
    late = audio[0, 2 * 44_100 :]
    assert np.abs(late).max() > 0.5 * np.abs(audio).max()
    around = np.abs(np.diff(audio[0, 6000:100_000], 2))
    assert around.max() < 3 * np.quantile(around, 0.9), "there is a step where it goes round"
    ends = own_from(read_sampled(one_zone(tmp_path, sample=sample)), clips)
    assert not np.abs(played(ends, clips, 69, seconds=3.0)[0, 44_100:]).max() > 1e-3


def test_both_sides_of_a_sample_are_one_recording(tmp_path):
    samples = [("Grand L", tone(440), RATE, 69, 0, None, LEFT, 1),
               ("Grand R", tone(441, level=0.25), RATE, 69, 0, None, RIGHT, 0)]  # fmt: skip
    zones = [{"keys": (0, 127), "pan": -500, "sample": 0}, {"pan": 500, "sample": 1}]
    body = sf2(samples, [("Inst", zones)], [("Grand", [{"instrument": 0}])])
    sampled = read_sampled(written(tmp_path / "grand.sf2", body))
    (zone,) = sampled.zones
    audio, _rate = sampled.samples[zone.sample]()
    assert hz_of(audio[:1], RATE) == pytest.approx(440, abs=0.3)
    assert hz_of(audio[1:], RATE) == pytest.approx(441, abs=0.3)
    assert np.abs(audio[0]).max() == pytest.approx(2 * np.abs(audio[1]).max(), rel=0.02)


def test_what_a_preset_says_is_added_to_its_instruments_and_ranges_meet(tmp_path):
    sample = ("Bell", tone(440), RATE, 69, 0, None, MONO, 0)
    zones = [{"attenuation": 10}, {"keys": (0, 60), "sample": 0}, {"keys": (61, 127), "sample": 0}]
    presets = [("First", [{"coarse": 2}, {"keys": (50, 127), "instrument": 0}]),
               ("Second", [{"instrument": 0, "attenuation": 20}])]  # fmt: skip
    path = written(tmp_path / "two.sf2", sf2([sample], [("Inst", zones)], presets))
    assert names_in(path) == ["First", "Second"]
    first = read_sampled(path, 0)
    assert [zone.keys for zone in first.zones] == [(50, 60), (61, 127)]
    assert {zone.root for zone in first.zones} == {67.0}
    assert {zone.gain_db for zone in first.zones} == {-1.0}
    second = read_sampled(path, 1)
    assert [zone.keys for zone in second.zones] == [(0, 60), (61, 127)]
    assert {zone.gain_db for zone in second.zones} == {-3.0}
    with pytest.raises(CloudriftError, match="2 presets"):
        read_sampled(path, 2)


def test_the_lower_eight_bits_are_read(tmp_path):
    wave = tone(440, level=2**-14)
    body = sf2([("Soft", wave, RATE, 69, 0, None, MONO, 0)], [("Inst", [{"sample": 0}])],
               [("Soft", [{"instrument": 0}])], fine=True)  # fmt: skip
    sampled = read_sampled(written(tmp_path / "fine.sf2", body))
    audio, _rate = sampled.samples["Soft"]()
    assert np.abs(audio[0] - wave).max() < 2**-20


def test_what_is_not_understood_is_listed(tmp_path):
    sample = ("Bell", tone(440), RATE, 69, 0, None, MONO, 0)
    body = sf2([sample], [("Inst", [{"filter": 8000, "pan": 100, "sample": 0}])],
               [("Bell", [{"instrument": 0}])], modulators=2)  # fmt: skip
    sampled = read_sampled(written(tmp_path / "bell.sf2", body))
    assert set(sampled.left_out) == {"filter", "pan of zones", "modulators"}
    own = own_from(sampled, ClipStore())
    words = said(sampled, own)
    assert words.startswith("1 zone of Bell; not understood, so not played: ")
    assert "filter" in words


@pytest.mark.parametrize("harm", ["cut", "no head", "zone outside", "sample outside", "no samples",
                                  "empty"])  # fmt: skip
def test_a_damaged_sf2_is_said_in_a_sentence(tmp_path, harm):
    sample = ("Bell", tone(440), RATE, 69, 0, None, MONO, 0)
    whole = sf2([sample], [("Inst", [{"sample": 7 if harm == "sample outside" else 0}])],
                [("Bell", [{"instrument": 5 if harm == "zone outside" else 0}])])  # fmt: skip
    body = {"cut": whole[: len(whole) // 3], "no head": b"RIFX" + whole[4:], "empty": b"",
            "no samples": whole.replace(b"smpl", b"xxxx")}.get(harm, whole)  # fmt: skip
    with pytest.raises(CloudriftError) as caught:
        own_from(read_sampled(written(tmp_path / "bad.sf2", body)), ClipStore())
    assert "\n" not in str(caught.value) and "bad.sf2" in str(caught.value)


def test_a_sample_that_lies_outside_of_its_file_is_left_out_with_its_zone(tmp_path):
    samples = [("Bell", tone(440), RATE, 69, 0, None, MONO, 0),
               ("Gone", tone(440), RATE, 69, 0, None, 0x8001, 0)]  # fmt: skip
    zones = [{"keys": (0, 60), "sample": 0}, {"keys": (61, 127), "sample": 1}]
    body = sf2(samples, [("Inst", zones)], [("Bell", [{"instrument": 0}])])
    sampled = read_sampled(written(tmp_path / "rom.sf2", body))
    own = own_from(sampled, ClipStore())
    assert len(own.recordings) == 1
    assert "1 zone without a sound" in said(sampled, own)


# --- SFZ ------------------------------------------------------------------------------------------


@pytest.fixture
def folder(tmp_path):
    (tmp_path / "samples").mkdir()
    for name, hz in (("low", 220), ("high", 440), ("soft", 330), ("one", 500), ("two", 600)):
        soundfile.write(tmp_path / "samples" / f"{name}.wav", tone(hz, rate=44_100), 44_100)
    return tmp_path


def sfz(folder, text):
    return read_sampled(written(folder / "kit.sfz", text))


def test_regions_take_what_their_groups_say(folder):
    sampled = sfz(folder, """
        // a comment <region> sample=nothing.wav
        <control> default_path=samples\\ note_offset=0
        <global> ampeg_release=0.6 volume=-3
        <group> lovel=1 hivel=63
        <region> sample=low.wav lokey=c2 hikey=b3 pitch_keycenter=a3
        <group> lovel=64 hivel=127 ampeg_attack=0.01 /* loud */
        <region> sample=HIGH.wav lokey=60 hikey=72 pitch_keycenter=69 tune=25 transpose=-1
        <region> sample=low.wav key=F#2 volume=2
        """)  # fmt: skip
    one, two, three = sampled.zones
    assert (one.keys, one.velocities, one.root) == ((36, 59), (1, 63), 57.0)
    assert (two.keys, two.velocities, two.root) == ((60, 72), (64, 127), 69.75)
    assert (three.keys, three.root, three.gain_db) == ((42, 42), 42.0, 2.0)
    assert one.gain_db == two.gain_db == -3.0
    assert one.shape.release_s * 0.6 == pytest.approx(0.6)
    assert (one.shape.attack_s, two.shape.attack_s) == (0.0, 0.01)
    assert sampled.left_out == () and sampled.name == "kit"
    own = own_from(sampled, ClipStore())
    assert own.instrument.bands == (1, 64)


def test_names_with_spaces_defined_names_and_included_files(folder):
    soundfile.write(folder / "samples" / "deep bell 1.wav", tone(110, rate=44_100), 44_100)
    (folder / "parts").mkdir()
    (folder / "parts" / "more.txt").write_text("<region> sample=samples/low.wav key=$LOW\n")
    sampled = sfz(folder, '#define $LOW 40\n<region> sample=samples/deep bell 1.wav key=33\n'
                          '#include "parts/more.txt"\n')  # fmt: skip
    assert [(zone.sample, zone.keys) for zone in sampled.zones] == [
        ("deep bell 1.wav", (33, 33)), ("low.wav", (40, 40))]  # fmt: skip


def test_a_loop_is_where_the_file_or_the_region_says(folder):
    sampled = sfz(folder, """
        <region> sample=samples/low.wav key=1 loop_mode=loop_continuous loop_start=100 loop_end=1099
        <region> sample=samples/low.wav key=2
        <region> sample=samples/low.wav key=3 loop_mode=one_shot loop_start=100 loop_end=1099
        <region> sample=samples/low.wav key=4 loopmode=loop_sustain loopstart=200 loopend=299
        offset=50
        """)  # fmt: skip
    assert [zone.loop for zone in sampled.zones] == [(100, 1100), None, None, (150, 250)]


def test_regions_that_take_turns_do_and_others_sound_together(folder):
    turns = sfz(
        folder,
        """<group> key=60 seq_length=2
        <region> sample=samples/one.wav seq_position=1
        <region> sample=samples/two.wav seq_position=2""",
    )
    clips = ClipStore()
    own = own_from(turns, clips)
    heard = {round(hz_of(played(own, clips, 60, variant=v), 44_100)) for v in range(4)}
    assert heard == {500, 600}
    both = own_from(sfz(folder, "<group> key=60 <region> sample=samples/one.wav "
                                "<region> sample=samples/two.wav"), clips)  # fmt: skip
    audio = played(both, clips, 60)
    spectrum = np.abs(np.fft.rfft(audio[0] * np.hanning(audio.shape[1])))
    hz = np.fft.rfftfreq(audio.shape[1], 1 / 44_100)
    for wanted in (500, 600):
        assert spectrum[np.abs(hz - wanted) < 5].max() > 0.3 * spectrum.max()


def test_what_an_sfz_asks_beyond_that_is_listed(folder):
    sampled = sfz(
        folder,
        """<region> sample=samples/low.wav cutoff=800 pan=20 key=60
        <region> sample=samples/low.wav trigger=release key=60
        <region> sample=*sine key=61
        <effect> reverb=20""",
    )
    assert len(sampled.zones) == 1
    assert set(sampled.left_out) == {"cutoff", "pan", "what sounds on release",
                                     "regions without a sample file", "<effect>"}  # fmt: skip


@pytest.mark.parametrize(("text", "words"), [
    ("<region> sample=gone.wav", "is missing"),
    ("<region> sample=../../../etc/passwd", "is outside"),
    ("<region> sample=/etc/passwd", "is outside"),
    ("<region> sample=samples/low.wav key=x9y", "is not a number"),
    ("<region> sample=samples/low.wav volume=nan", "is not a possible number"),
    ('#include "kit.sfz"', "includes itself"),
    ("", "has no sample that plays"),
    ("<region>" * 5000 + " sample=samples/low.wav", "more than 4096"),
])  # fmt: skip
def test_a_bad_sfz_is_said_in_a_sentence(folder, text, words):
    with pytest.raises(CloudriftError, match=words):
        sfz(folder, text)


# --- where recordings play ------------------------------------------------------------------------


def recordings(*rows):
    return OwnSound(name="Kit", plays="own loops", recordings=tuple(
        Recording(clip=f"{i:024x}", root=60.0, keys=keys, velocities=velocities, turn=turn)
        for i, (keys, velocities, turn) in enumerate(rows)))  # fmt: skip


def test_outside_of_all_keys_and_velocities_the_nearest_play():
    own = recordings(((40, 50), (0, 63), 0), ((40, 50), (64, 127), 0), ((60, 70), (0, 127), 0))

    def at(pitch, velocity):
        return [own.recordings.index(r) for r in recordings_for(own, pitch, velocity, 0)]

    assert at(45, 10) == [0] and at(45, 64) == [1] and at(30, 100) == [1] and at(80, 1) == [2]
    assert at(54, 100) == [1] and at(57, 100) == [2]
    quiet = recordings(((0, 127), (40, 127), 0))
    assert len(recordings_for(quiet, 60, 1, 0)) == 1


def test_velocity_chooses_the_recording_and_its_loudness_stays_ours(folder):
    own = own_from(
        sfz(
            folder,
            """<group> pitch_keycenter=60
        <region> sample=samples/soft.wav hivel=63
        <region> sample=samples/high.wav lovel=64""",
        ),
        clips := ClipStore(),
    )
    tones = ToneCache(clips=clips)
    heard = {}
    for velocity in (40, 63, 64, 127):
        note = Note(start_tick=0, length_ticks=960, pitch=60, velocity=velocity)
        part = Part(notes=(note,), instrument=own.instrument, settings=own.settings,
                    clock=Clock.of(120, 44_100), loop_ticks=7680, frames=176_400)  # fmt: skip
        audio = part.render(tones)
        heard[velocity] = hz_of(audio[:, :20_000], 44_100), float(np.abs(audio).max())
    assert [round(heard[v][0] / 5) for v in (40, 63, 64, 127)] == [66, 66, 88, 88]
    loud = [heard[v][1] for v in (40, 63, 64, 127)]
    assert loud == sorted(loud) and loud[2] / loud[1] < 1.1


def test_a_sampled_sound_is_kept_on_the_shelf_and_in_a_loop(folder, tmp_path, small_loop):
    clips = ClipStore()
    own = own_from(sfz(folder, "<region> sample=samples/low.wav lokey=10 hikey=20 lovel=5"), clips)
    assert load_own(save_own(own, clips, tmp_path / "shelf"), ClipStore()) == own
    loop = layer_edits.add_layer(small_loop, own)
    path = tmp_path / "kit.cloudrift"
    save(loop, path, clips)
    assert load(path, ClipStore()).layers[-1].played.sound.own == own


@pytest.mark.parametrize("wrong", [
    {"keys": (5, 4)}, {"keys": (0, 128)}, {"velocities": (-1, 4)}, {"loop_to": 101.0},
    {"gain_db": 41.0}, {"gain_db": float("nan")}, {"turn": -1},
])  # fmt: skip
def test_a_recording_that_can_not_be_is_refused(wrong):
    with pytest.raises(CloudriftError):
        Recording(clip="0" * 24, root=60.0, **wrong)


# --- in the window --------------------------------------------------------------------------------


def bell_file(tmp_path):
    sample = ("Bell", tone(440), RATE, 69, 0, (2205, 4410), MONO, 0)
    zones = [{"filter": 8000, "modes": 1, "sample": 0}]
    return written(
        tmp_path / "bells.sf2",
        sf2(
            [sample],
            [("Inst", zones)],
            [
                ("Harbour bell", [{"instrument": 0}]),
                ("Ice bell", [{"coarse": 12, "instrument": 0}]),
            ],
        ),
    )


def test_an_sf2_dropped_on_layers_becomes_a_sound_of_the_shelf(qtbot, window, tmp_path):
    window.choose_stage(1)
    session = window.session
    window.layers.sampled_dropped.emit([bell_file(tmp_path)])
    qtbot.waitUntil(lambda: window.shelf.sheet is not None, timeout=20_000)
    sheet = window.shelf.sheet
    assert [sheet.list.item(i).text() for i in range(2)] == ["Harbour bell", "Ice bell"]
    sheet.search.setText("ice")
    assert sheet.list.item(0).isHidden() and sheet.name.text() == "Ice bell"
    sheet.licence.setText("CC0 by Otter Bay")
    layer = session.selection.layer_id
    sheet.make.click()
    qtbot.waitUntil(lambda: session.loop.layer(layer).played.sound.own is not None, timeout=20_000)
    own = session.loop.layer(layer).played.sound.own
    assert (own.name, own.licence, len(own.recordings)) == ("Ice bell", "CC0 by Otter Bay", 1)
    assert own.recordings[0].root == 57.0
    assert "not understood, so not played: filter" in window.message.text()
    settled(qtbot, session)
    session.document.undo()
    assert session.loop.layer(layer).played.sound.own is None


def test_a_bad_instrument_is_said_and_changes_nothing(qtbot, window, tmp_path):
    window.choose_stage(1)
    window.open_shelf()
    before = window.session.loop
    with qtbot.waitSignal(window.session.failed, timeout=20_000) as heard:
        window.shelf.bring_files([written(tmp_path / "bad.sf2", b"RIFF1234sfbk")])
    assert "bad.sf2 is damaged" in heard.args[0]
    assert window.session.loop is before and window.shelf.bring.isEnabled()


def test_the_sheet_asks_for_what_it_needs(qtbot, window):
    sheet = SampledSheet(["One", ""], Path("two.sf2"), window)
    assert sheet.list.item(1).text() == "number 2"
    chosen = []
    sheet.chosen.connect(lambda *what: chosen.append(what))
    for name, words in (("", "Give the sound a name"), ("Felt upright", "is a house sound")):
        sheet.name.setText(name)
        sheet.make.click()
        assert words in sheet.words.text()
    sheet.search.setText("nothing like it")
    sheet.name.setText("Mine")
    sheet.make.click()
    assert sheet.words.text() == "Select an instrument." and not chosen
    sheet.search.setText("")
    sheet.make.click()
    assert chosen == [(0, "Mine", "")]


def test_files_are_dropped_where_they_can_be_used():
    data = QMimeData()
    names = ("a.mid", "b.mp3", "c.wav", "d.sf2", "e.SFZ", "f.txt")
    data.setUrls([QUrl.fromLocalFile(f"/x/{name}") for name in names] + [QUrl.fromLocalFile("/")])

    def of(*kinds, folders=False):
        return [path.name for path in dropped(data, frozenset().union(*kinds), folders=folders)]

    assert of(MIDI_FILES) == ["a.mid"]
    assert of(RECORDED) == ["b.mp3", "c.wav"]
    assert of(ONE_SHOTS, SAMPLED) == ["c.wav", "d.sf2", "e.SFZ"]
    assert of(SAMPLED, folders=True) == ["d.sf2", "e.SFZ", ""]
    assert dropped(None, MIDI_FILES) == []
