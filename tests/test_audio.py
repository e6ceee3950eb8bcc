import io
import struct

import numpy as np
import pyloudnorm
import pytest
import soundfile
from hypothesis import given
from hypothesis import strategies as st
from mutagen.id3 import ID3

from cloudrift.audio.about import About
from cloudrift.audio.files import read_audio, write_atomically
from cloudrift.audio.looped import put_wrapped, slice_wrapped
from cloudrift.audio.loudness import _k_weighting, integrated_lufs, true_peak_db
from cloudrift.audio.resample import resample_circular, shift_held
from cloudrift.audio.sound_file import write_wav
from cloudrift.audio.spectrum import chroma, spectrogram
from cloudrift.audio.wrap import (
    CHANGE_STEP,
    changed_span,
    circular_noise,
    filter_change,
    filter_circular,
    fold,
    read_displaced,
    read_stretch,
)
from cloudrift.ground import CloudriftError
from tests.conftest import db, main_hz, rms, sine

PRIME = 44_111  # frames: nothing divides it


def whole_turns(n, turns, level=0.5):
    return np.stack([level * np.sin(2 * np.pi * turns * np.arange(n) / n)] * 2).astype(np.float32)


def test_folding_adds_what_hangs_over():
    audio = np.arange(10, dtype=np.float32)[None]
    assert fold(audio, 4).tolist() == [[0 + 4 + 8, 1 + 5 + 9, 2 + 6, 3 + 7]]
    assert fold(audio, 12)[0, 10:].tolist() == [0, 0]


@pytest.mark.parametrize("n", [44_100, PRIME])
def test_a_filter_in_the_steady_state_is_a_circular_convolution(n, rng):
    audio = rng.standard_normal((2, n)).astype(np.float32)
    impulse = (rng.standard_normal(3000) * np.exp(-np.arange(3000) / 500)).astype(np.float32)
    out = filter_circular(
        audio, lambda s, length: s * np.fft.rfft(impulse, length).astype(np.complex64), 3000
    )
    wanted = np.fft.irfft(np.fft.rfft(audio) * np.fft.rfft(fold(impulse[None], n)), n)
    assert np.abs(out - wanted).max() < 2e-4


def test_channels_may_feed_each_other(rng):
    audio = rng.standard_normal((2, 4096)).astype(np.float32)
    out = filter_circular(audio, lambda spectrum, _length: spectrum[::-1], 10)
    assert np.abs(out - audio[::-1]).max() < 1e-5


@pytest.mark.parametrize("n", [44_100, PRIME])
def test_reading_between_frames_follows_the_wave_over_the_seam(n):
    away = (80.37 * np.sin(2 * np.pi * np.arange(n) / n)).astype(np.float32)
    wanted = 0.5 * np.sin(2 * np.pi * 900 * (np.arange(n) + away) / n)
    assert np.abs(read_displaced(whole_turns(n, 900), away)[0] - wanted).max() < 1e-4
    twice = read_displaced(np.tile(whole_turns(n, 900), 2), away)
    assert np.abs(twice[0, n:] - wanted).max() < 1e-4


@pytest.mark.parametrize(("start", "count"), [(0, 5000), (20_000, 1), (43_000, 9000), (30, 44_000)])
def test_a_stretch_reads_what_the_whole_loop_would(start, count, rng):
    audio = rng.standard_normal((2, 44_100)).astype(np.float32)
    away = (150 * np.sin(2 * np.pi * np.arange(44_100) / 44_100)).astype(np.float32)
    whole = slice_wrapped(read_displaced(audio, away), start, count)
    assert (
        np.abs(read_stretch(audio, slice_wrapped(away, start, count), start) - whole).max() < 1e-5
    )


@given(st.integers(600, 9000), st.lists(st.integers(0, 8999), max_size=5))
def test_the_changed_stretch_holds_every_difference_and_is_the_shortest(frames, places):
    places = sorted({p % frames for p in places})
    before = np.zeros((2, frames), np.float32)
    after = before.copy()
    after[0, places] = 1.0
    start, count = changed_span(before, after)
    if not places:
        assert (start, count) == (0, 0)
        return
    assert all((p - start) % frames < count for p in places)
    gaps = np.diff([*places, places[0] + frames])
    assert frames - gaps.max() < count <= frames - gaps.max() + 1 + 2 * CHANGE_STEP
    assert count <= frames
    assert (slice_wrapped(after, start, count) == 1).any()


@pytest.mark.parametrize("ring", [2000, 12_000])
@pytest.mark.parametrize("start", [0, 9000, 79_000])
def test_filtering_a_change_is_filtering_the_whole(ring, start, rng):
    n = 80_021
    before = rng.standard_normal((2, n)).astype(np.float32)
    after = before.copy()
    put_wrapped(after, rng.standard_normal((2, 3000)).astype(np.float32), start)
    impulse = rng.standard_normal(ring) * np.exp(-np.arange(ring) * 9 / ring)

    def through(spectrum, length):
        return spectrum * np.fft.rfft(impulse, length).astype(np.complex64)

    whole = filter_circular(after, through, ring)
    changed = filter_change(filter_circular(before, through, ring), before, after, through, ring)
    assert db(np.abs(changed - whole).max() / rms(whole)) < -80
    same = filter_change(whole, after, after, through, ring)
    assert np.array_equal(same, whole)
    assert same is not whole
    assert filter_change(whole, before, -after, through, ring) is None  # all of it differs


@pytest.mark.parametrize("frames", [PRIME, 52_500, 37_000])
def test_resampling_a_loop_keeps_its_turns_and_its_seam(frames):
    out = resample_circular(whole_turns(44_100, 441), frames)
    assert out.shape == (2, frames)
    assert db(rms(out - whole_turns(frames, 441)) / rms(out)) < -50  # -50 dB: 1/200 of a frame


@pytest.mark.parametrize("semitones", [-3, 7])
def test_holding_the_length_moves_the_pitch_only(semitones):
    audio = sine(440.0, 3.0)
    out = shift_held(audio, semitones, 44_100)
    assert out.shape == audio.shape
    cents = 1200 * np.log2(main_hz(out, 200, 900) / 440) - 100 * semitones
    assert abs(cents) < 3
    twice = np.concatenate([out, out], axis=1)
    steps = np.abs(np.diff(twice[0]))
    n = audio.shape[1]
    assert steps[n - 100 : n + 100].max() < 1.2 * steps[5000 : n - 5000].max()


def test_holding_the_length_keeps_onsets_in_their_places(rng):
    n = 3 * 44_100
    audio = np.zeros((2, n), np.float32)
    starts = (0, 44_100, 88_200)
    for at in starts:
        audio[:, at : at + 4000] += (
            rng.standard_normal(4000) * np.exp(-np.arange(4000) / 900)
        ).astype(np.float32)
    out = shift_held(audio, -3, 44_100, joins=starts)
    for at in starts:
        level = np.abs(out[0, np.arange(at - 4000, at + 4000) % n])
        onset = np.flatnonzero(level > 0.3 * level.max())[0] - 4000
        assert abs(onset) / 44.1 < 5  # ms


def test_circular_noise_has_no_seam_and_unit_peak(rng):
    curve = circular_noise(rng, 20_000, 2, 12)
    steps = np.abs(np.diff(np.concatenate([curve, curve])))
    assert np.abs(curve).max() == pytest.approx(1)
    assert steps[19_999] <= steps.max()
    assert steps.max() < 12 * 2 * np.pi / 20_000 * 1.5


@pytest.mark.parametrize("level", [0.5, 0.05])
def test_loudness_agrees_with_the_reference_meter(level, rng):
    n = 10 * 44_100
    shape = np.linspace(0.1, 1, n)  # so that gating matters
    audio = (rng.standard_normal((2, n)) * level * shape).astype(np.float32)
    wanted = pyloudnorm.Meter(44_100).integrated_loudness(audio.T.astype(float))
    assert integrated_lufs(audio, 44_100) == pytest.approx(wanted, abs=0.15)


def test_the_weighting_is_the_one_that_the_standard_lists():
    delay = np.exp(-1j * np.linspace(0, np.pi, 2049))
    wanted = np.ones(2049, complex)
    for top, under in (
        ((1.53512485958697, -2.69169618940638, 1.19839281085285),
         (1, -1.69065929318241, 0.73248077421585)),
        ((1, -2, 1), (1, -1.99004745483398, 0.99007225036621)),
    ):  # fmt: skip
        wanted *= np.polyval(top[::-1], delay) / np.polyval(under[::-1], delay)
    assert np.abs(_k_weighting(4096, 48_000) - wanted).max() < 1e-6


@pytest.mark.parametrize("rate", [44_100, 48_000])
def test_a_full_tone_on_one_side_reads_three_below_full_scale(rate):
    tone = np.sin(2 * np.pi * 997 * np.arange(5 * rate) / rate).astype(np.float32)
    assert integrated_lufs(np.stack([tone, 0 * tone]), rate) == pytest.approx(-3.01, abs=0.01)


def test_loudness_is_the_same_wherever_a_loop_starts(rng):
    audio = (rng.standard_normal((2, 88_200)) * np.linspace(0, 0.3, 88_200)).astype(np.float32)
    turned = np.roll(audio, 30_000, axis=1)
    assert integrated_lufs(audio, 44_100) == pytest.approx(integrated_lufs(turned, 44_100), abs=0.3)
    assert integrated_lufs(np.zeros((2, 1000), np.float32), 44_100) == -120


def test_true_peak_finds_what_lies_between_samples():
    t = np.arange(44_100)
    audio = np.stack([0.9 * np.sin(np.pi / 2 * t + np.pi / 4)] * 2).astype(np.float32)
    assert db(np.abs(audio).max()) < -3.8
    assert true_peak_db(audio) == pytest.approx(db(0.9), abs=0.01)


@pytest.mark.parametrize("hz", [99.0, 7497.0, 14_700.0, 19_404.0])
@pytest.mark.parametrize("phase", [0.0, 1.1])
def test_true_peak_is_found_at_any_pitch_and_on_either_side(hz, phase):
    turn = 2 * np.pi * hz * np.arange(44_100) / 44_100 + phase
    swell = np.hanning(44_100) ** 0.1  # so that few samples are near the peak
    audio = np.stack([0.1 * np.sin(turn), 0.7 * swell * np.sin(turn)]).astype(np.float32)
    assert true_peak_db(audio) == pytest.approx(db(0.7), abs=0.02)
    assert true_peak_db(audio[::-1]) == pytest.approx(db(0.7), abs=0.02)


def test_a_true_peak_over_the_seam_is_found():
    audio = np.zeros((2, 2000), np.float32)
    audio[:, 0] = audio[:, -1] = 0.5  # a loop: both lie beside each other
    apart = np.zeros((2, 2000), np.float32)
    apart[:, 900:902] = 0.5
    assert true_peak_db(audio) == pytest.approx(true_peak_db(apart), abs=1e-4)
    assert true_peak_db(audio) > db(0.5) + 1.5


def test_chroma_and_spectrogram_say_where_the_sound_is():
    audio = sine(440.0 * 2 ** (4 / 12), 2.0)
    assert chroma(audio, 44_100).argmax() == 1  # C♯
    picture = spectrogram(audio, 44_100, columns=20, rows=72)
    edges = np.geomspace(14_000, 60, 73)
    row = int(np.flatnonzero(edges < 554.4)[0]) - 1
    assert abs(picture.mean(axis=1).argmax() - row) <= 1
    assert picture.max() == pytest.approx(-6, abs=1.6)


def test_wav_files_carry_loop_points_tempo_and_key(tmp_path, rng):
    audio = (rng.standard_normal((2, 4411)) * 0.1).astype(np.float32)
    path = tmp_path / "a.wav"
    write_wav(path, audio, 44_100, bits=24, about=About(
        loop=True, tempo=142.0, root_pitch=66, comment="key F# minor", title="Ice Road"
    ))  # fmt: skip
    raw = path.read_bytes()
    assert struct.unpack("<I", raw[4:8])[0] == len(raw) - 8
    chunks = {}
    at = 12
    while at < len(raw):
        name, size = struct.unpack("<4sI", raw[at : at + 8])
        chunks[name] = raw[at + 8 : at + 8 + size]
        at += 8 + size + size % 2
    assert struct.unpack("<2I", chunks[b"smpl"][44:52]) == (0, 4410)
    assert struct.unpack("<I", chunks[b"smpl"][12:16]) == (66,)
    assert ID3(io.BytesIO(chunks[b"id3 "]))["TBPM"].text == ["142"]
    assert b"key F# minor" in chunks[b"LIST"] and b"Ice Road" in chunks[b"bext"]
    assert soundfile.info(path).frames == 4411


@pytest.mark.parametrize(("bits", "floor_db"), [(16, -90), (24, -130), (32, -200)])
def test_wav_files_hold_what_was_written(tmp_path, bits, floor_db, rng):
    audio = (rng.standard_normal((2, 20_000)) * 0.1).astype(np.float32)
    write_wav(tmp_path / "a.wav", audio, 48_000, bits=bits)
    back, rate = read_audio(tmp_path / "a.wav")
    assert rate == 48_000
    assert db(rms(back - audio)) < floor_db


def test_a_failed_write_leaves_the_old_file_and_no_litter(tmp_path):
    path = tmp_path / "a.bin"
    path.write_bytes(b"old")

    def fail(file):
        file.write(b"half")
        raise OSError(28, "No space left on device")

    with pytest.raises(CloudriftError, match="No space left on device"):
        write_atomically(path, fail)
    assert path.read_bytes() == b"old"
    assert list(tmp_path.iterdir()) == [path]


def test_what_is_no_audio_is_said(tmp_path):
    (tmp_path / "a.wav").write_bytes(b"nothing")
    with pytest.raises(CloudriftError, match=r"could not read .*a\.wav as audio"):
        read_audio(tmp_path / "a.wav")
