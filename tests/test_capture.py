"""What a microphone brings: where it lies in the loop, the takes in it, how late it comes."""

import numpy as np
import pytest

from cloudrift.audio.presence import over_the_rest_db
from cloudrift.devices.microphone import BLEED_DB, FIRST, HISS_DB, StandInMicrophone
from cloudrift.render.play.capture import (
    Capture,
    both_sides,
    cut_off_in,
    freely,
    measure_latency,
    sweeps,
    turns_of,
)
from cloudrift.render.play.player import Player
from cloudrift.texture.way_in import made_ready

RATE = 48_000
BLOCK = 960
LOOP = 2 * RATE  # frames: four beats
BEAT = RATE // 2


def captured(sound, apart=0, *, jitter=0.0, drift=0.0):
    """Bring sound, (n,) or (n, 2), in blocks; ``apart`` frames were handed out before its first."""
    rng = np.random.default_rng(3)
    at = [0.0]
    made = Capture(RATE, lambda: at[0])
    made.begin()
    both = np.repeat(sound[:, None], 2, axis=1) if sound.ndim == 1 else sound
    for start in range(0, len(both), BLOCK):
        block = both[start : start + BLOCK].astype(np.float32)
        at[0] = apart + (start + len(block)) * (1 + drift) + rng.uniform(-1, 1) * jitter
        made.push(block)
    return made


def clicks(places, length, level=0.5):
    out = np.zeros(length)
    for at in places:
        out[at : at + 40] = level
    return out


def test_blocks_that_come_unevenly_are_found_to_within_a_third_of_a_millisecond():
    made = captured(np.zeros(20 * RATE), apart=12_345, jitter=900)
    assert made.input_frame_at(12_345 + 5 * RATE, 0.0) == pytest.approx(5 * RATE, abs=16 * 10)
    assert (
        made.input_frame_at(12_345 + 5 * RATE, 480.0) - made.input_frame_at(12_345 + 5 * RATE, 0.0)
        == 480
    )


def test_two_clocks_may_drift_apart():
    made = captured(np.zeros(60 * RATE), drift=2e-4)
    for second in (5, 30, 55):
        assert made.input_frame_at(second * RATE * (1 + 2e-4), 0.0) == pytest.approx(
            second * RATE, abs=24
        )


def test_nothing_is_kept_before_it_begins_and_every_beginning_is_anew():
    made = Capture(RATE, lambda: 0.0)
    made.push(np.ones((BLOCK, 2), np.float32))
    assert made.frames == 0 and made.level()[0] == 1.0 and made.level()[0] == 0.0
    made.begin()
    made.push(np.ones((BLOCK, 2), np.float32))
    assert made.frames == BLOCK
    made.begin()
    assert made.frames == 0 and made.cut_off == 0 and made.audio().shape == (2, 0)


def test_what_is_not_a_number_does_not_get_in():
    made = captured(np.full(BLOCK, np.nan))
    assert not made.audio().any()


@pytest.mark.parametrize(("rows", "places"), [
    ([0.5] * 9, 0), ([1.0, 1.0, 0.2], 0), ([1.0] * 3, 1), ([1.0, 1.0, 1.0, 0.1] * 2, 2),
    ([-1.0] * 5, 1), ([1.0, -1.0, 1.0, 1.0], 1),
])  # fmt: skip
def test_cut_off_is_what_stays_at_full_scale(rows, places):
    assert cut_off_in(np.array([[row, 0.0] for row in rows], np.float32)) == places


def test_each_turn_of_the_loop_is_a_take_that_begins_where_the_loop_does():
    # The loop begins at frame 70 000 handed out; sound comes 4 000 frames late.
    apart, late = 50_000, 4_000
    first = 70_000 - apart + late
    places = [first + turn * LOOP + i * BEAT for turn in range(3) for i in (0, 1, 2, 3)]
    made = captured(clicks(places, first + 3 * LOOP + 200), apart)
    turns = turns_of(made, 70_000, LOOP, late, BEAT)
    assert [turn.whole for turn in turns] == [True] * 3
    for turn in turns:
        begins = np.flatnonzero(np.diff((np.abs(turn.audio[0]) > 0.3).astype(int)) == 1) + 1
        assert [int(b) - turn.lead for b in begins[:4]] == [0, BEAT, 2 * BEAT, 3 * BEAT]


def test_what_leads_in_is_kept_where_the_take_has_room_for_it():
    made = captured(clicks([2 * RATE - BEAT // 2, 2 * RATE, 3 * RATE], 4 * RATE))
    (turn,) = turns_of(made, 2 * RATE, LOOP, 0, BEAT)
    assert turn.lead == BEAT
    assert np.abs(turn.audio[0, BEAT // 2 : BEAT // 2 + 40]).max() > 0.4
    full = captured(clicks([2 * RATE - BEAT // 2, 2 * RATE, 4 * RATE - BEAT // 2], 4 * RATE))
    (turn,) = turns_of(full, 2 * RATE, LOOP, 0, BEAT)
    assert turn.lead < BEAT // 4


def test_a_note_held_over_the_end_belongs_to_the_take_before():
    hold = np.zeros(2 * LOOP + RATE)
    hold[LOOP : 2 * LOOP + RATE // 4] = 0.3
    (first, second) = turns_of(captured(hold[: 2 * LOOP + RATE // 4]), 0, LOOP, 0, BEAT)
    assert second.audio.shape[1] - second.lead == LOOP + RATE // 4
    assert first.audio.shape[1] - first.lead == LOOP
    (_first, held) = turns_of(captured(hold[: 2 * LOOP + 3 * BEAT // 2]), 0, LOOP, 0, BEAT)
    assert held.audio.shape[1] - held.lead == LOOP + BEAT  # and no longer than a beat
    longer = captured(np.concatenate([hold, np.full(RATE // 2, 0.3)]))
    turns = turns_of(longer, 0, LOOP, 0, BEAT)
    assert [turn.whole for turn in turns] == [True, True, False]


def test_a_take_is_cut_without_a_click_and_never_longer_than_a_recording():
    made = captured(np.full(66 * RATE, 0.5))
    (turn,) = turns_of(made, 0, 65 * RATE, 0, BEAT)
    assert turn.audio.shape[1] == 60 * RATE and not turn.whole
    for edge in (turn.audio[0, :4], turn.audio[0, -4:]):
        assert np.abs(edge).max() < 0.01


def test_one_side_without_anything_plugged_in_is_left_out():
    left = np.stack([np.full(999, 0.3), np.zeros(999)]).astype(np.float32)
    assert np.array_equal(both_sides(left)[1], left[0])
    right = left[::-1].copy()
    assert np.array_equal(both_sides(right)[0], right[1])
    stereo = np.stack([np.full(999, 0.3), np.full(999, 0.1)]).astype(np.float32)
    assert both_sides(stereo) is stereo


def test_what_is_taken_freely_has_no_silence_around_it():
    sound = np.random.default_rng(1).normal(0, 1e-4, 5 * RATE)
    sound[2 * RATE : 3 * RATE] += 0.3 * np.sin(np.arange(RATE) / 20)
    turn = freely(captured(sound))
    assert RATE <= turn.audio.shape[1] <= 1.4 * RATE and turn.lead == 0
    begins = np.flatnonzero(np.abs(turn.audio[0]) > 0.02)[0]  # a breath before it is kept
    assert 0.05 * RATE < begins < 0.08 * RATE
    assert freely(captured(np.zeros(RATE))).audio.shape[1] < RATE // 2


@pytest.mark.parametrize("late", [300, 4_464, 30_001])
def test_how_late_sound_comes_in_is_measured_to_the_frame(late):
    rng = np.random.default_rng(2)
    sent = sweeps(RATE)[0]
    heard = rng.normal(0, 0.002, 3 * RATE)
    heard[9_000 + late : 9_000 + late + len(sent)] += 0.02 * sent
    made = captured(heard, apart=1_000)
    assert measure_latency(made, 10_000) == pytest.approx(late, abs=1)


def test_a_test_sound_that_began_before_what_is_kept_is_measured_from_its_beginning():
    sent = sweeps(RATE)[0]
    heard = np.zeros(3 * RATE)
    heard[4_000 : 4_000 + len(sent)] += 0.02 * sent
    made = captured(heard, apart=12_000)
    assert measure_latency(made, 10_000) == pytest.approx(6_000, abs=1)


def test_what_does_not_come_in_is_not_measured():
    noise = np.random.default_rng(2).normal(0, 0.1, 3 * RATE)
    assert measure_latency(captured(noise), 0) is None
    assert measure_latency(captured(np.zeros(100)), 0) is None


# --- the player's clock ---------------------------------------------------------------------------


def test_the_player_tells_what_was_handed_out_and_where_in_the_loop_it_is():
    player = Player(RATE)
    player.load(np.zeros((2, 1000), np.float32))
    player.pull(300)
    assert (player.stamp.handed, player.stamp.at, player.stamp.loop_frames) == (0, -1, 0)
    player.play()
    for i in range(5):
        player.pull(300)
        stamp = player.stamp
        assert (stamp.handed, stamp.at) == (300 + 300 * i, 300 * i % 1000)
        assert stamp.loop_frames == 1000
    struck = player.strike(np.zeros((2, 50), np.float32), "test")
    assert struck.began == -1
    player.pull(300)
    assert struck.began == 1800
    assert player.handing >= 1800


# --- the stand-in ---------------------------------------------------------------------------------


class ByHand(StandInMicrophone):
    """A stand-in that brings a block when a test says so."""

    def start(self, push):
        self._push = push

    def bring(self, count=BLOCK):
        self._push(self._room(count))


def sung(phrase, *, turns=2, at=LOOP - BLOCK * 3, free=False, late_ms=50.0):
    """Play a silent loop from a place on and return what came in, and where the loop began."""
    handed = [0]
    microphone = ByHand(RATE, lambda: handed[0], late_ms=late_ms)
    blocks = []
    microphone.start(blocks.append)
    microphone.cue(phrase, free=free)
    begun = None
    for _ in range(turns * LOOP // BLOCK):
        place = -1 if free else at % LOOP
        if begun is None and place + BLOCK >= LOOP:
            begun = handed[0] + LOOP - place
        microphone.overhear(np.zeros((BLOCK, 2), np.float32), handed[0], place, LOOP)
        microphone.bring()
        handed[0] += BLOCK
        at += BLOCK
    microphone.close()
    return np.concatenate(blocks)[:, 0], begun


@pytest.mark.parametrize("odd", [0, 333])
def test_the_stand_in_sings_in_time_from_where_the_loop_begins_anew(odd):
    heard, begun = sung(clicks([0, BEAT], LOOP).astype(np.float32), at=LOOP - 6 * BLOCK + odd)
    begins = np.flatnonzero(np.diff((np.abs(heard) > 0.2).astype(int)) == 1) + 1
    # The first blocks only set the clock; after that each frame comes 50 ms after it was handed on.
    shift = begins[0] - begun
    assert shift == pytest.approx(0.05 * RATE, abs=2 * BLOCK)
    assert begins[1] - begins[0] == BEAT
    again = [b for b in begins if b >= begins[0] + LOOP - 5]
    assert not again or again[0] - begins[0] == LOOP
    before = heard[: begins[0] - 10]
    assert np.abs(before).max() < 0.05, "it sings before the loop begins"


def test_the_stand_in_sings_freely_at_once_and_is_quiet_without_a_cue():
    heard, _ = sung(np.full(RATE, 0.5, np.float32), free=True, turns=1)
    assert np.flatnonzero(np.abs(heard) > 0.2)[0] < (FIRST + 5) * BLOCK
    silent, _ = sung(np.zeros(0, np.float32), turns=1)
    assert 20 * np.log10(np.std(silent)) == pytest.approx(HISS_DB, abs=0.5)


def test_the_speaker_is_heard_softly_in_the_stand_ins_room():
    handed = [0]
    microphone = ByHand(RATE, lambda: handed[0], late_ms=20.0)
    blocks = []
    microphone.start(blocks.append)
    tone = np.sin(np.arange(BLOCK) * 2 * np.pi / 48)[:, None].repeat(2, axis=1).astype(np.float32)
    for _ in range(60):
        microphone.overhear(tone, handed[0], -1, 0)
        microphone.bring()
        handed[0] += BLOCK
    microphone.close()
    late = np.concatenate(blocks)[20 * BLOCK :, 0]
    assert 20 * np.log10(np.std(late) * np.sqrt(2)) == pytest.approx(BLEED_DB, abs=0.5)


# --- on its way in --------------------------------------------------------------------------------


def phrase(level=0.5):
    """A tone that is loud for a second and soft for a second."""
    t = np.arange(2 * RATE) / RATE
    tone = level * np.sin(2 * np.pi * 440 * t) * np.where(t < 1, 1.0, 0.2)
    return np.stack([tone, tone]).astype(np.float32)


def rms_db(audio):
    return 20 * np.log10(np.sqrt(np.mean(np.square(audio))))


def test_a_take_is_evened_alike_however_softly_it_was_sung():
    spans = (slice(RATE // 2, RATE - 2000), slice(RATE + RATE // 2, 2 * RATE - 2000))
    for level in (0.5, 0.02):
        out = made_ready(phrase(level), RATE)
        assert out.shape == phrase().shape
        loud, soft = (rms_db(out[:, span]) for span in spans)
        assert loud - soft == pytest.approx(14.0 - 7.3, abs=1.0)


def test_a_take_loses_what_is_below_a_voice():
    t = np.arange(2 * RATE) / RATE
    low = np.stack([0.1 * np.sin(2 * np.pi * 30 * t)] * 2).astype(np.float32)
    kept = np.stack([0.1 * np.sin(2 * np.pi * 200 * t)] * 2).astype(np.float32)
    middle = slice(RATE // 2, 3 * RATE // 2)
    lost_low = rms_db(low[:, middle]) - rms_db(made_ready(low, RATE)[:, middle])
    lost = rms_db(kept[:, middle]) - rms_db(made_ready(kept, RATE)[:, middle])
    assert lost_low - lost > 20


def test_silence_is_made_ready_as_silence():
    assert not made_ready(np.zeros((2, RATE), np.float32), RATE).any()


def test_room_is_told_where_words_are_told_apart():
    t = np.arange(RATE) / RATE
    voice = np.stack([0.1 * np.sin(2 * np.pi * 2000 * t)] * 2).astype(np.float32)
    voice[:, RATE // 2 :] = 0
    low = np.stack([0.8 * np.sin(2 * np.pi * 100 * t)] * 2).astype(np.float32)
    assert over_the_rest_db(voice, voice / 2 + low, RATE) == pytest.approx(6.0, abs=0.5)
    rest = np.roll(voice, RATE // 2, axis=1)
    late = over_the_rest_db(voice, rest, RATE)
    assert late is None or late > 8, "only where the voice sounds"
    assert over_the_rest_db(voice, np.zeros_like(voice), RATE) is None
    assert over_the_rest_db(np.zeros_like(voice), voice, RATE) is None
