"""Layers that are recordings: how they are laid, in time, at a pitch, as loud; what is kept."""

import numpy as np
import pytest
from msgspec.structs import replace

from cloudrift.audio.fitting import fitted, on_tape
from cloudrift.audio.loudness import integrated_lufs
from cloudrift.audio.vowels import vowels_moved
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.chords.metre import set_metre
from cloudrift.loop.edits.chords.progression import put_row
from cloudrift.loop.edits.layers import layer_edits, line_edits, recordings
from cloudrift.loop.files.storage import load, save
from cloudrift.loop.model.recorded import FITS, Facts, FromRecording
from cloudrift.loop.sounding import key_heard, key_of_layers
from cloudrift.render.measure.clashes import clashes
from cloudrift.render.measure.taken import bass_in, chords_in
from cloudrift.render.plan.laying import laying_of
from cloudrift.render.plan.plan import layer_context
from cloudrift.style.beginnings import empty_loop
from cloudrift.theory import Key, parse_progression
from tests.conftest import db, make_small_loop, rms, treated

RATE = 44_100
BEATS = tuple(i * 0.6 for i in range(8))  # 100 BPM


def strokes(times, seconds, hz=440.0):
    t = np.arange(int(0.25 * RATE)) / RATE
    one = 0.3 * np.sin(2 * np.pi * hz * t) * np.exp(-t / 0.06)
    mono = np.zeros(int(seconds * RATE))
    for at in times:
        i = int(at * RATE)
        mono[i : i + len(one)] += one[: len(mono) - i]
    return np.stack([mono, mono]).astype(np.float32)


def begins(audio, gap_s=0.12, share=0.25):
    """When strokes begin in a loop, in seconds."""
    loud = np.abs(audio[0]) > share * np.abs(audio).max()
    out, last = [], -1e9
    for i in np.flatnonzero(loud):
        if i - last > gap_s * RATE:
            out.append(i / RATE)
        last = i
    return np.array(out)


def sine(hz, seconds):
    t = np.arange(int(seconds * RATE)) / RATE
    return np.stack([np.sin(2 * np.pi * hz * t)] * 2).astype(np.float32) * 0.2


def pitch(audio):
    spectrum = np.abs(np.fft.rfft(audio[0] * np.hanning(audio.shape[1]), 8 * audio.shape[1]))
    return spectrum.argmax() * RATE / (8 * audio.shape[1])


def cents(hz, wanted):
    return 1200 * np.log2(hz / wanted)


@pytest.fixture
def loop():
    return empty_loop(Key("C#", "minor"), 125.0, bars=4)  # a beat is 0.48 s


@pytest.fixture
def laid_in(loop, clips, engine_of_session):
    """Lay sound into the loop and return what is heard."""

    def lay(audio, facts, **how):
        facts = replace(facts, length_s=audio.shape[1] / RATE)
        source = FromRecording(clip=clips.record(audio, RATE), facts=facts, **how)
        return engine_of_session.render(recordings.add_recording(loop, source)).audio

    return lay


@pytest.fixture
def engine_of_session(clips):
    from cloudrift.render import Engine

    made = Engine(clips=clips)
    yield made
    made.close()


FACTS = Facts(name="x", kind="loop", length_s=4.8, tempo=100.0, beats_s=BEATS)


# --- in time --------------------------------------------------------------------------------------


@pytest.mark.parametrize(("fit", "beat"), [("as it is", 0.6), ("tempo", 0.48), ("tape", 0.48),
                                           ("beats", 0.48)])  # fmt: skip
def test_beats_lie_where_the_fit_puts_them(laid_in, fit, beat):
    heard = begins(laid_in(strokes(BEATS, 4.8), FACTS, fit=fit, every_bars=4))
    wanted = np.arange(8) * beat
    assert np.abs(heard[:8] - wanted).max() < 0.003


def test_a_loop_fills_its_turns_and_goes_round_without_a_seam(laid_in):
    """Eight beats are two bars; twice round is the loop, and its end runs into its start."""
    audio = laid_in(strokes(BEATS, 4.8), FACTS, fit="tempo", every_bars=2)
    assert audio.shape[1] == round(16 * 0.48 * RATE)
    assert np.abs(begins(audio)[:16] - np.arange(16) * 0.48).max() < 0.003
    steady = laid_in(sine(440.0, 4.8), FACTS, fit="tempo", every_bars=2)
    steps = np.abs(np.diff(np.concatenate([steady[0, -200:], steady[0, :200]])))
    assert steps.max() < 1.3 * np.abs(np.diff(steady[0])).mean() * np.pi / 2


def test_beats_that_are_off_are_pulled_by_a_share(laid_in):
    off = tuple(b + (0.04 if i % 2 else 0.0) for i, b in enumerate(BEATS))
    facts = replace(FACTS, beats_s=off, kind="phrase")
    audio = strokes(off, 4.8)
    grid = np.arange(8) * 0.48
    for pull, most in ((1.0, 0.004), (0.5, 0.024)):
        heard = begins(laid_in(audio, facts, fit="beats", pull=pull))
        assert np.abs(heard[:8] - grid).max() < most
    half = begins(laid_in(audio, facts, fit="beats", pull=0.5))[1] - 0.48
    assert half == pytest.approx(0.016, abs=0.006)  # 40 ms at 5/4 of its pace, halved


def test_the_downbeat_lies_at_its_place_and_what_is_before_it_comes_before(laid_in, loop):
    """A phrase with a pick-up: the third beat begins the bar."""
    facts = replace(FACTS, downbeat=2, kind="phrase")
    at = loop.clock.seconds(3840)
    heard = begins(laid_in(strokes(BEATS, 4.8), facts, fit="tempo", at_tick=3840))
    assert np.abs(heard - at).min() < 0.003
    assert np.abs(heard - (at - 2 * 0.48)).min() < 0.003
    assert len(heard) == 8


def test_a_phrase_comes_once_or_every_so_many_bars(laid_in):
    short = strokes((0.0,), 0.5)
    facts = replace(FACTS, kind="phrase", beats_s=(), tempo=0.0)
    assert len(begins(laid_in(short, facts))) == 1
    twice = begins(laid_in(short, facts, every_bars=2, at_tick=960))
    assert np.allclose(twice, [0.48, 0.48 + 8 * 0.48], atol=0.003)


def test_a_part_of_it_is_cut_without_a_click(laid_in):
    facts = replace(FACTS, kind="phrase", beats_s=(), tempo=0.0)
    audio = laid_in(sine(300.0, 4.0), facts, first_s=1.0, last_s=2.0)
    heard = np.flatnonzero(np.abs(audio[0]) > 1e-4)
    assert heard[-1] - heard[0] == pytest.approx(RATE, abs=60)
    assert np.abs(np.diff(audio[0])).max() < 1.05 * 0.2 * 2 * np.pi * 300 / RATE


def test_a_bed_goes_on_all_over_the_loop(laid_in, rng):
    noise = (rng.standard_normal((2, 2 * RATE)) * 0.05).astype(np.float32)
    audio = laid_in(noise, Facts(name="rain", kind="bed", length_s=2.0))
    level = np.sqrt((audio[0, : audio.shape[1] // 8 * 8].reshape(8, -1) ** 2).mean(axis=1))
    assert level.max() / level.min() < 1.15
    around = np.roll(audio, RATE // 10, axis=1)[0, : RATE // 5]
    assert rms(around) == pytest.approx(rms(audio[0]), rel=0.2)


def test_tape_on_its_line_keeps_it_on_the_grid(clips, loop, engine_of_session):
    audio = strokes(BEATS, 4.8)
    facts = replace(FACTS, length_s=4.8)
    source = FromRecording(clip=clips.record(audio, RATE), facts=facts, fit="tempo", every_bars=2)
    added = line_edits.add_treatment(recordings.add_recording(loop, source), "l1", "shift")
    shift = added.line_of("l1")[0].id
    for name, value in (("way", "like tape"), ("semitones", -5.0)):
        added = line_edits.set_treatment_setting(added, "l1", shift, name, value)
    heard = begins(engine_of_session.render(added).audio)
    assert np.abs(heard[:16] - np.arange(16) * 0.48).max() < 0.005


# --- at a pitch, and as loud ----------------------------------------------------------------------


@pytest.mark.parametrize("fit", FITS)
@pytest.mark.parametrize("semitones", [0.0, 3.0, -7.5])
def test_the_pitch_is_what_is_asked(laid_in, fit, semitones):
    audio = laid_in(sine(440.0, 4.8), FACTS, fit=fit, every_bars=4, semitones=semitones)
    wanted = 440 * 2 ** (semitones / 12) * (1.25 if fit == "tape" else 1)
    assert abs(cents(pitch(audio[:, RATE // 2 : 3 * RATE]), wanted)) < 5


@pytest.mark.parametrize("fit", FITS)
def test_a_fit_keeps_the_loudness(laid_in, clips, fit):
    audio = strokes(BEATS, 4.8, hz=300.0)
    got = laid_in(audio, FACTS, fit=fit, every_bars=2, semitones=2.0)
    long = round(4.8 * RATE) if fit == "as it is" else round(8 * 0.48 * RATE)
    part = got[:, : min(long, got.shape[1] // 2)]
    assert integrated_lufs(part, RATE) == pytest.approx(integrated_lufs(audio, RATE), abs=1.0)


def test_the_usual_gain_makes_it_as_loud_as_a_layer(laid_in):
    audio = sine(300.0, 4.8) * 0.01
    facts = replace(FACTS, lufs=integrated_lufs(audio, RATE))
    gain = recordings.usual_gain(facts)
    got = laid_in(audio, facts, fit="tempo", every_bars=2, gain_db=gain)
    assert integrated_lufs(got, RATE) == pytest.approx(recordings.LAYER_LUFS, abs=1.0)
    assert recordings.usual_gain(replace(facts, lufs=-120.0)) == 0.0


def vowel(hz, formant):
    """A tone rich in overtones, through a mouth."""
    t = np.arange(3 * RATE) / RATE
    mono = sum(np.sin(2 * np.pi * k * hz * t) / k / (1 + ((k * hz - formant) / 120) ** 2)
               for k in range(1, 40))  # fmt: skip
    return np.stack([mono, mono]).astype(np.float32) * 0.1


def centre(audio):
    """Where along the spectrum its strongest region lies, in Hz."""
    power = (
        np.abs(np.fft.rfft(audio[0, RATE : 2 * RATE])) ** 2 * np.fft.rfftfreq(RATE, 1 / RATE) ** 2
    )
    hz = np.fft.rfftfreq(RATE, 1 / RATE)
    inside = (hz > 300) & (hz < 3000)
    return float((hz[inside] * power[inside]).sum() / power[inside].sum())


def test_the_colour_of_a_voice_stays_where_it_is_held(laid_in):
    audio = vowel(150.0, 900.0)
    facts = replace(FACTS, kind="phrase", beats_s=(), tempo=0.0)
    free = laid_in(audio, facts, semitones=7.0)
    held = laid_in(audio, facts, semitones=7.0, hold_vowels=True)
    assert centre(free) / centre(audio) == pytest.approx(2 ** (7 / 12), rel=0.12)
    assert centre(held) / centre(audio) == pytest.approx(1.0, rel=0.1)
    moved = 150.0 * 2 ** (7 / 12)
    heard = [pitch(x[:, RATE : 2 * RATE]) for x in (free, held)]
    lines = [cents(hz / round(hz / moved), moved) for hz in heard]  # fmt: skip
    assert max(map(abs, lines)) < 5


def test_moving_the_colour_by_nothing_changes_nothing(rng):
    audio = (rng.standard_normal((2, 9000)) * 0.1).astype(np.float32)
    assert db(rms(vowels_moved(audio, 0.0, RATE) - audio) / rms(audio)) < -80


def test_fitting_to_the_same_places_is_the_sound_itself():
    audio = strokes((0.1, 0.3), 0.5)
    assert np.array_equal(fitted(audio, [(0, 0), (audio.shape[1],) * 2], RATE), audio)
    assert on_tape(audio, 1.0, RATE) is audio
    assert on_tape(audio, 2.0, RATE).shape[1] == pytest.approx(audio.shape[1] / 2, abs=2)


# --- what can't be --------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("changes", "words"),
    [(dict(semitones=30.0), "shift is 30"), (dict(gain_db=99.0), "gain is 99"),
     (dict(first_s=4.8), "start is 4.8"), (dict(last_s=9.0), "end is 9"),
     (dict(first_s=2.0, last_s=1.0), "end is 1"), (dict(clip="../x"), "does not name"),
     (dict(fit="tempo", facts=replace(FACTS, tempo=0.0)), "tempo is not known"),
     (dict(fit="beats", facts=replace(FACTS, beats_s=())), "fewer than two beats")],
)  # fmt: skip
def test_what_cannot_be_is_said(loop, changes, words):
    source = FromRecording(clip="0" * 24, facts=FACTS)
    with pytest.raises(CloudriftError, match=words):
        recordings.add_recording(loop, replace(source, **changes))


@pytest.mark.parametrize(
    ("changes", "words"),
    [(dict(tempo=7.0), "tempo is 7"), (dict(beats_s=(0.1, 0.1)), "beat 2"),
     (dict(beats_s=(9.0,)), "beat 1 at 9 s"), (dict(downbeat=8), "downbeat is 8"),
     (dict(length_s=99.0), "length is 99"), (dict(pitch=200.0), "pitch is 200")],
)  # fmt: skip
def test_facts_that_cannot_be_are_said(changes, words):
    with pytest.raises(CloudriftError, match=words):
        replace(FACTS, **changes)


def test_what_needs_a_sound_says_that_there_is_none(loop):
    added = recordings.add_recording(loop, FromRecording(clip="0" * 24, facts=FACTS))
    with pytest.raises(CloudriftError, match="x is a recording: it has no sound"):
        layer_edits.set_sound(added, "l1", "warm pad")
    with pytest.raises(CloudriftError, match="no notes"):
        from cloudrift.loop.edits.layers import own_notes

        own_notes.own_of(added, "l1")
    assert layer_edits.add_note_layer(added, "l1").layers[-1].own == ()
    assert added.striker is None
    with pytest.raises(CloudriftError, match="is not a recording"):
        recordings.recording_of(layer_edits.add_layer(loop, "warm pad"), "l1")


# --- edits ----------------------------------------------------------------------------------------


@pytest.fixture
def added(loop):
    facts = replace(FACTS, key=Key("E", "minor"))
    return recordings.add_recording(loop, FromRecording(clip="0" * 24, facts=facts, fit="tempo"))


def source_of(loop):
    return loop.layer("l1").recorded


@pytest.mark.parametrize(
    ("own", "key", "ways"),
    [("E minor", "C# minor", (-3, 9)), ("E minor", "G major", (0,)), ("E minor", "E minor", (0,)),
     ("C major", "F# major", (6, -6)), ("A dorian", "G major", (0,)),
     ("D minor", "E minor", (2, -10))],
)  # fmt: skip
def test_both_ways_into_the_key_are_offered(own, key, ways):
    own, key = (Key(*one.split(" ", 1)) for one in (own, key))
    facts = replace(FACTS, key=own)
    assert recordings.ways_into(FromRecording(clip="0" * 24, facts=facts), key, 100.0) == ways


def test_a_note_goes_to_the_tonic_and_what_has_no_pitch_nowhere():
    note = FromRecording(clip="0" * 24, facts=replace(FACTS, pitch=62.1))
    assert recordings.ways_into(note, Key("C#", "minor"), 100.0) == (-1, 11)
    bare = FromRecording(clip="0" * 24, facts=FACTS)
    assert recordings.ways_into(bare, Key("C", "minor"), 100.0) == ()


def test_what_is_fitted_by_tape_is_in_key_where_it_sounds_in_it():
    """From 100 to 125 BPM the tape takes it up by 3.86 semitones."""
    facts = replace(FACTS, key=Key("E", "minor"), tempo=100.0)
    source = FromRecording(clip="0" * 24, facts=facts, fit="tape")
    key = Key("E", "minor")
    assert not recordings.is_in_key(source, key, 125.0)
    assert recordings.ways_into(source, key, 125.0) == (-3.86, 8.14)
    assert recordings.is_in_key(replace(source, semitones=-3.86), key, 125.0)
    assert recordings.is_in_key(source, Key("G#", "minor"), 126.0)  # 4.00 semitones higher
    assert recordings.is_in_key(source, key, 200.0)  # an octave
    assert recordings.is_in_key(replace(source, fit="tempo"), key, 125.0)


def test_the_key_of_the_loop_takes_it_along(added):
    assert source_of(loop_edits.set_key(added, Key("D", "minor"))).semitones == 1
    assert source_of(loop_edits.shift_key(added, -3)).semitones == -3
    no_pitch = recordings.set_own_key(added, "l1", None)
    assert source_of(loop_edits.shift_key(no_pitch, -3)).semitones == 0
    assert recordings.in_reach(25.0) == 13.0


def test_another_length_and_metre_keep_it_in_the_loop(added):
    later = recordings.set_recording(added, "l1", at_tick=3 * 3840)
    assert source_of(loop_edits.set_bars(later, 2)).at_tick == 3840
    longer = source_of(loop_edits.set_bars(later, 8))
    assert (longer.at_tick, longer.every_bars) == (3 * 3840, 4)
    waltz = set_metre(later, (3, 4))
    assert source_of(waltz).at_tick == 3 * 2880


def test_a_tempo_that_is_said_lays_the_beats_out(added):
    said = source_of(recordings.set_own_tempo(added, "l1", 50.0)).facts
    assert said.beats_s == (0.0, 1.2, 2.4, 3.6, 4.8)
    later = recordings.set_downbeat(added, "l1", 1.25)
    assert source_of(later).facts.downbeat == 2
    assert source_of(later).origin_s == pytest.approx(1.2)
    said = source_of(recordings.set_own_tempo(later, "l1", 50.0)).facts
    assert said.beats_s[said.downbeat] == pytest.approx(1.2)
    none = source_of(recordings.set_own_tempo(added, "l1", 0.0))
    assert (none.fit, none.facts.tempo, none.facts.beats_s) == ("as it is", 0.0, ())


def test_it_is_counted_twice_or_half_as_fast(added):
    twice = recordings.twice_as_fast(recordings.set_downbeat(added, "l1", 0.6), "l1")
    facts = source_of(twice).facts
    assert (facts.tempo, len(facts.beats_s), facts.beats_s[facts.downbeat]) == (200.0, 15, 0.6)
    assert facts.beats_s[1] == pytest.approx(0.3)
    half = source_of(recordings.half_as_fast(twice, "l1")).facts
    assert (half.tempo, half.beats_s[half.downbeat]) == (100.0, 0.6)
    with pytest.raises(CloudriftError, match="at half the tempo"):
        recordings.half_as_fast(recordings.set_own_tempo(added, "l1", 20.0), "l1")


def test_a_beat_moves_only_between_its_neighbours(added):
    moved = source_of(recordings.move_beat(added, "l1", 2, 99.0)).facts.beats_s
    assert moved[1] < moved[2] < moved[3]
    assert source_of(recordings.move_beat(added, "l1", 2, 1.25)).facts.beats_s[2] == 1.25
    assert source_of(recordings.move_beat(added, "l1", 0, -1.0)).facts.beats_s[0] == 0.0


def test_what_is_said_of_the_key_settles_what_was_doubted(added):
    doubted = recordings.set_facts(added, "l1", doubts=("written 90 BPM, heard 100", "written A"))
    assert source_of(recordings.set_own_key(doubted, "l1", Key("A", "minor"))).facts.doubts == (
        "written 90 BPM, heard 100",)  # fmt: skip
    assert source_of(recordings.set_own_tempo(doubted, "l1", 90.0)).facts.doubts == ("written A",)


def test_it_is_laid_in_as_often_as_it_fits(loop):
    def laid(**facts):
        return recordings.laid_in(loop, "0" * 24, replace(FACTS, **facts))

    two_bars = laid()
    assert (two_bars.fit, two_bars.every_bars, two_bars.last_s) == ("tempo", 2, 0.0)
    phrase = laid(kind="phrase")
    assert phrase.every_bars == 0
    long = laid(length_s=30.0, kind="phrase")
    assert long.last_s == pytest.approx(16 * 0.6)  # the loop's 16 beats, of its own
    bed = laid(kind="bed")
    assert (bed.fit, bed.every_bars) == ("as it is", 0)
    unknown = laid(tempo=0.0, beats_s=())
    assert unknown.fit == "as it is"


@pytest.mark.parametrize(
    ("own", "tempo", "counted"),
    [(71.0, 142.0, 142.0), (142.0, 71.0, 71.0), (96.0, 142.0, 96.0), (100.0, 125.0, 100.0),
     (60.0, 125.0, 120.0)],
)  # fmt: skip
def test_what_is_twice_as_fast_goes_in_half_time(own, tempo, counted):
    assert recordings.counted_near(replace(FACTS, tempo=own), tempo).tempo == counted


# --- kept, and at odds ----------------------------------------------------------------------------


def test_it_is_saved_with_its_sound_and_opened_again(loop, clips, tmp_path):
    audio = strokes(BEATS, 4.8)
    facts = replace(
        FACTS, key=Key("E", "minor"), licence="own recording", maker="Tern & Tide Audio"
    )
    source = FromRecording(clip=clips.record(audio, RATE), facts=facts, fit="beats", pull=0.5,
                           semitones=-3.25, hold_vowels=True, at_tick=960,
                           every_bars=2)  # fmt: skip
    added = recordings.add_recording(loop, source)
    path = tmp_path / "x.cloudrift"
    save(added, path, clips)
    from cloudrift.audio.clips import ClipStore

    elsewhere = ClipStore()
    assert load(path, elsewhere) == added
    assert np.abs(elsewhere.read(source.clip)[0] - audio).max() < 1e-6
    (clips.file(source.clip)).unlink()
    with pytest.raises(CloudriftError, match="is missing"):
        save(added, path, clips)


@pytest.mark.parametrize("soon", [False, True])
def test_what_is_at_hand_of_a_clip_is_what_its_file_has_to_the_last_bit(rng, soon):
    from cloudrift.audio.clips import ClipStore
    from cloudrift.ground.lru import forget_made

    audio = rng.normal(0, 0.4, (2, 5000)).astype(np.float32)  # some of it past full scale
    audio[:, :4] = [1.0, -1.0, 2**-24, 1 - 2**-24]
    clips = ClipStore()
    name = clips.record(audio, RATE, soon=soon)
    there = clips.read(name)
    forget_made()
    assert np.array_equal(clips.read(name)[0], there[0]) and there[1] == RATE
    assert not there[0].flags.writeable and there[0].flags.c_contiguous


@pytest.mark.parametrize("change", [dict(semitones=1.0), dict(hold_vowels=True), dict(first_s=0.5),
                                    dict(last_s=2.0), dict(at_tick=960), dict(every_bars=1),
                                    dict(fit="tape"), dict(gain_db=3.0),
                                    dict(fit="beats", pull=0.5)])  # fmt: skip
def test_whatever_changes_the_sound_changes_its_name_in_the_cache(loop, change):
    off = replace(FACTS, beats_s=tuple(b + 0.02 * (i % 3) for i, b in enumerate(BEATS)))
    base = FromRecording(clip="0" * 24, facts=off, fit="tempo", semitones=2.0)

    def laying(source):
        one = recordings.add_recording(loop, source)
        return laying_of(source, layer_context(one, one.layers[0]), one.ticks, one.metre)

    assert laying(replace(base, **change)) != laying(base)
    named = replace(base, facts=replace(off, licence="said", maker="somebody"))
    assert laying(named) == laying(base)  # words are not heard


def test_what_is_outside_or_rubs_is_told_for_each_chord(loop, clips):
    loop = put_row(loop, parse_progression("i i i i", loop.key))
    hz = 261.626  # C natural: outside C sharp minor, and a half step under its tonic

    def clash(hz):
        facts = Facts(name="x", length_s=7.0)
        source = FromRecording(clip=clips.record(sine(hz, 7.0), RATE), facts=facts)
        added = recordings.add_recording(loop, source)
        return clashes(added, added.layers[-1], clips)

    assert {(c.outside, c.rubs) for c in clash(hz)} == {((0,), ())}
    assert {(c.outside, c.rubs) for c in clash(hz * 2 ** (9 / 12))} == {
        ((), (9,))
    }  # A over G sharp
    assert clash(hz * 2 ** (1 / 12)) == ()  # C sharp is home


def test_a_shift_into_the_key_takes_the_clashes_away(loop, clips):
    loop = put_row(loop, parse_progression("i i i i", loop.key))
    tones = sum(sine(hz, 7.0) for hz in (329.63, 392.0, 493.88))  # E minor
    facts = Facts(name="x", length_s=7.0, key=Key("E", "minor"))
    source = FromRecording(clip=clips.record(tones, RATE), facts=facts)
    added = recordings.add_recording(loop, source)
    assert clashes(added, added.layers[-1], clips)
    into = recordings.set_recording(added, "l1", semitones=-3.0)
    assert clashes(into, into.layers[-1], clips) == ()


# --- what a loop takes from it --------------------------------------------------------------------


def row_of_sines(roots, seconds):
    """Minor triads over a low root, one after another."""
    part = []
    for root in roots:
        hz = [440 * 2 ** ((p - 69) / 12) for p in (root - 24, root, root + 3, root + 7)]
        part.append(sum(sine(one, seconds) for one in hz) * 0.3)
    return np.concatenate(part, axis=1)


def test_the_bass_and_the_chords_of_a_recording_are_taken(loop, clips):
    audio = row_of_sines((69, 62, 64, 69), 4 * 0.48)  # Am Dm Em Am, a bar each, in the loop's tempo
    facts = Facts(name="pier", kind="loop", length_s=audio.shape[1] / RATE)
    source = FromRecording(clip=clips.record(audio, RATE), facts=facts)
    added = recordings.add_recording(loop, source)
    bass = bass_in(added, added.layers[-1], clips)
    assert [(n.pitch % 12, n.start_tick, n.length_ticks) for n in bass] == [
        (9, 0, 3840), (2, 3840, 3840), (4, 7680, 3840), (9, 11_520, 3840)]  # fmt: skip
    assert all(28 <= n.pitch < 40 for n in bass)
    row = chords_in(added, added.layers[-1], clips)
    assert [(c.tones[0], float(c.bars)) for c in row] == [(9, 1), (2, 1), (4, 1), (9, 1)]
    with_bass = recordings.put_bass(added, "l1", bass)
    layer = with_bass.layers[-1]
    assert (layer.name, layer.role, layer.own) == ("pier bass", "bass", bass)
    with pytest.raises(CloudriftError, match="is not a recording"):
        bass_in(with_bass, layer, clips)
    silent = FromRecording(clip=clips.record(audio * 0, RATE), facts=facts)
    quiet = recordings.add_recording(loop, silent)
    with pytest.raises(CloudriftError, match="no notes found"):
        chords_in(quiet, quiet.layers[-1], clips)


def test_the_tempo_of_a_recording_is_taken_where_a_loop_can_have_it(added):
    assert recordings.take_tempo(added, "l1").tempo == 100.0
    slow = recordings.set_own_tempo(added, "l1", 25.0)
    with pytest.raises(CloudriftError, match="no usable tempo"):
        recordings.take_tempo(slow, "l1")


# --- against what is heard ------------------------------------------------------------------------


def test_a_recording_comes_into_the_key_that_sounds_whatever_is_written():
    """Everything goes through the whole loop's line: a new layer, too."""
    loop = replace(make_small_loop(), line=())
    assert key_of_layers(loop) == loop.key
    taped = treated(loop, None, "shift", semitones=-3.0, way="like tape")
    assert key_of_layers(taped) == loop.key  # it is moved along with all others
    moved = loop
    for layer in loop.layers:
        moved = treated(moved, layer.id, "shift", semitones=2.0)
    assert key_of_layers(moved) == loop.key.shifted(2) == key_heard(moved)
    assert key_of_layers(treated(moved, None, "shift", semitones=-3.0)) == loop.key.shifted(2)


def test_clashes_are_with_the_chords_that_sound(clips):
    loop = replace(make_small_loop(), line=())
    voices = loop.chords[0].voices
    hz = [440 * 2 ** ((v - 69) / 12) for v in voices]
    t = np.arange(int(loop.sounding_frames)) / loop.rate
    audio = np.tile(sum(np.sin(2 * np.pi * f * t) for f in hz) * 0.1, (2, 1)).astype(np.float32)
    facts = Facts(name="Held", kind="loop", tempo=loop.tempo, length_s=float(t[-1]), key=loop.key)
    source = FromRecording(clip=clips.record(audio, loop.rate), facts=facts)
    first = loop.chords[:1]
    held = replace(loop, chords=(replace(first[0], length_ticks=loop.ticks),))
    added = recordings.add_recording(held, source)
    assert clashes(added, added.layers[-1], clips) == ()
    moved = added
    for layer in loop.layers:
        moved = treated(moved, layer.id, "shift", semitones=1.0)
    found = clashes(moved, moved.layers[-1], clips)
    assert found and found[0].outside
    assert (found[0].start_tick, found[0].end_tick) == (0, held.ticks)
