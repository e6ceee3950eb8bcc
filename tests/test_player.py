import numpy as np
import pytest

from cloudrift.devices import SilentSpeaker, open_speaker
from cloudrift.render import Player
from tests.conftest import wait_for

RATE, N = 44_100, 44_100


def loop(level=0.5, turns=100, n=N):
    return np.stack([level * np.sin(2 * np.pi * turns * np.arange(n) / n)] * 2).astype(np.float32)


def pull(player, frames, block=512):
    return np.concatenate([player.pull(block).copy() for _ in range(-(-frames // block))])


@pytest.fixture
def player():
    made = Player(RATE)
    made.load(loop())
    made.play()
    return made


def steps(audio):
    return np.abs(np.diff(audio, axis=0)).max()


SLOPE = 0.5 * 2 * np.pi * 100 / N


def test_it_plays_the_loop_round_and_round_without_a_seam(player):
    out = pull(player, 3 * N)
    assert np.abs(out[N : N + 2000, 0] - loop()[0, :2000]).max() < 1e-6
    assert steps(out[500:]) <= SLOPE * 1.01


@pytest.mark.parametrize("at", [9000, N - 3000])
@pytest.mark.parametrize("block", [512, 7001])
def test_a_patch_is_played_in_its_place_and_the_loop_elsewhere(player, at, block):
    patch = loop(turns=150)[:, :5000]
    player.patch(patch, at, 0.5)
    out = pull(player, 3 * N, block)[:, 0]
    wanted = loop()[0].copy()
    wanted[(at + np.arange(5000)) % N] = 0.5 * patch[0]
    assert np.array_equal(out[N : 2 * N], wanted)
    player.load(loop())  # the whole takes its place, patch and all
    pull(player, N, block)
    heard = round(player.share * N)
    assert np.array_equal(pull(player, N, block)[:N, 0], np.roll(loop()[0], -heard))


def test_what_was_made_ready_is_played_and_nothing_else_in_its_place(player):
    pull(player, N)
    ready = loop(turns=150)
    player.get_ready(ready, 0.5)
    player.load(ready, 0.5)
    assert np.abs(pull(player, 2 * N)[-N:]).max() == pytest.approx(0.25, abs=1e-3)
    for audio, gain in ((ready, 0.25), (loop(0.25), 0.5)):  # another gain, another loop
        player.get_ready(ready, 0.5)
        player.load(audio, gain)
        assert np.abs(pull(player, 2 * N)[-N:]).max() == pytest.approx(0.125, abs=1e-3)


def test_a_patch_with_nothing_loaded_is_left(player):
    empty = Player(RATE)
    empty.patch(loop(), 0)
    empty.play()
    assert not pull(empty, 2000).any()


def test_nothing_is_heard_before_it_plays():
    player = Player(RATE)
    assert not pull(player, 2000).any()
    player.load(loop())
    assert not pull(player, 2000).any()


@pytest.mark.parametrize("change", ["load", "gain", "seek", "part", "stop", "longer"])
def test_every_change_is_a_cross_fade_and_never_a_step(player, change):
    pull(player, 7000)
    {
        "load": lambda: player.load(loop(turns=150)),
        "gain": lambda: player.load(loop(), 0.2),
        "seek": lambda: player.seek(0.6137),
        "part": lambda: player.hear_part(0.51, 0.77),
        "stop": player.stop,
        "longer": lambda: player.load(loop(n=60_000, turns=136)),
    }[change]()
    out = pull(player, 60_000)
    assert steps(out) < 0.75 * 2 * np.pi * 150 / N + 0.75 / 441 * 1.6


def test_another_rendering_goes_on_at_the_same_place(player):
    pull(player, 10_240)
    player.load(loop(level=0.3, n=2 * N, turns=200))
    assert player.share == pytest.approx(10_240 / N, abs=0.002)
    pull(player, 4096)
    assert player.share == pytest.approx((2 * 10_240 + 4096) / (2 * N), abs=0.02)


def test_another_length_goes_on_at_the_same_bar_and_a_long_form_where_it_was_left(player):
    bar = N
    player.load(loop(n=8 * bar), bars=8)
    player.seek(5.5 / 8)
    pull(player, 64)
    assert player.share * 8 == pytest.approx(5.5, abs=0.1)
    player.load(loop(n=2 * bar), bars=2)
    pull(player, 64)
    assert player.share * 2 == pytest.approx(1.5, abs=0.1)
    player.load(loop(n=8 * bar), bars=8)
    pull(player, 64)
    assert player.share * 8 == pytest.approx(5.5, abs=0.1)
    player.load(loop(n=4 * bar))  # of which no bars are known: the same share of it
    pull(player, 64)
    assert player.share == pytest.approx(5.5 / 8, abs=0.05)


def test_a_part_turns_inside_its_bounds(player):
    player.hear_part(0.25, 0.5)
    shares = []
    for _ in range(200):
        player.pull(512)
        shares.append(player.share)
    assert min(shares) >= 0.25
    assert max(shares) <= 0.5
    player.hear_part(0.0, 1.0)
    pull(player, N)
    assert player.part == (0.0, 1.0)


def test_it_goes_to_the_very_frame_although_its_share_may_lie_a_hair_before_it(player):
    before = [k for k in range(N) if int(k / N * N) < k]
    assert len(before) > 100
    for k in before[:: len(before) // 9]:
        player.seek(k / N)
        pull(player, 2048)
        assert player.share * N == pytest.approx((k + 2048) % N, abs=1e-6)


def test_standing_still_keeps_the_place(player):
    pull(player, 20_480)
    at = player.share
    player.stop()
    assert np.abs(pull(player, 4096)[1024:]).max() == 0
    assert player.share == pytest.approx(at, abs=0.02)
    player.play()
    pull(player, 1024)
    assert player.share == pytest.approx(at, abs=0.05)


def test_two_changes_within_one_fade_do_not_click(player):
    pull(player, 5000)
    for i in range(30):
        player.load(loop(level=0.5, turns=100 + i % 2))
        player.seek((i * 0.137) % 1)
        out = pull(player, 128, block=64)
        assert steps(out) < 0.02


def test_nothing_leaves_full_scale(player):
    player.load(loop(level=0.9), gain=4.0)
    assert np.abs(pull(player, 4096)).max() == 1.0


def test_the_silent_speaker_keeps_time():
    player = Player(RATE)
    player.load(loop())
    player.play()
    speaker = SilentSpeaker(RATE)
    speaker.start(player.pull)
    wait_for(lambda: player.share > 0.3, 5)
    speaker.close()
    stood = player.share
    assert player.callback_s
    assert player.share == stood


def test_a_speaker_is_always_found():
    speaker = open_speaker(RATE)
    assert speaker.name
    speaker.close()


def test_moving_a_field_is_heard_without_gap_click_or_zipper():
    """The third of four cards is moved step by step while the loop plays: the joined audio."""
    from cloudrift.texture import Context, Treatment
    from cloudrift.texture.running import treat
    from cloudrift.texture.treatment import fused

    t = np.arange(N) / RATE
    tone = np.stack([0.4 * np.sin(2 * np.pi * 200 * t)] * 2).astype(np.float32)
    where = Context(rate=RATE, exact_frames=float(N), tempo=120.0)

    def sound(cut_hz):
        line = [
            Treatment(id=f"t{i}", kind=k) for i, k in enumerate(("tilt", "warm", "cuts", "room"))
        ]
        line[2] = line[2].set("low_cut_hz", 20).set("high_cut_hz", cut_hz)
        audio = tone
        for group in fused(tuple(line)):
            audio = treat(audio, group, where)
        return audio

    steps_hz = [800 * 2 ** (i / 6) for i in range(12)]
    sounds = [sound(hz) for hz in steps_hz]
    player = Player(RATE)
    player.load(sounds[0])
    player.play()
    out = [pull(player, 8192)]
    for one in sounds:
        player.load(one)
        out.append(pull(player, 4096))
    joined = np.concatenate(out)[4096:, 0].astype(float)
    assert np.abs(joined.reshape(-1, 512)).max(axis=1).min() > 0.2  # no gap
    still = max(np.abs(np.diff(one[0].astype(float), 2)).max() for one in sounds)
    assert np.abs(np.diff(joined, 2)).max() < 1.6 * still  # no click
    level = np.abs(np.fft.rfft(joined * np.hanning(len(joined))))
    hz = np.fft.rfftfreq(len(joined), 1 / RATE)
    near = np.abs(hz / 200 - np.round(hz / 200)) * 200 < 60  # the tone's own partials
    assert 20 * np.log10(level[~near & (hz > 100)].max() / level.max()) < -60  # no zipper


@pytest.mark.parametrize("size", [37, 240, 441, 2400])
def test_however_many_frames_are_asked_for_the_same_sound_comes(size):
    """A change, a stroke over it and the loop's seam, in one pull or in many."""

    def heard(step):
        player = Player(RATE)
        player.load(loop())
        player.play()
        player.pull(N - 3000)
        player.load(loop(turns=131, level=0.6))
        player.strike(loop(turns=50)[:, :4000], "key")
        return np.concatenate([player.pull(step).copy() for _ in range(2400 * 4 // step)])

    whole = heard(2400)
    pieces = heard(size)
    np.testing.assert_allclose(pieces, whole[: len(pieces)], atol=2e-7)
