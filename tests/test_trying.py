"""Played keys and tried chords are heard as in the loop: soon, through its lines, released."""

import threading
from functools import partial

import msgspec
import numpy as np
import pytest

from cloudrift.desktop.session.hearing import heard_once
from cloudrift.desktop.session.hearing.hearing import BARE
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.render import Engine
from cloudrift.render.plan.trying import FIRST_S, first_moment, left_out, tried_line
from cloudrift.render.play.audition import played_key, tried
from cloudrift.render.play.player import Player
from cloudrift.texture import KINDS, Treatment
from tests.conftest import db, main_hz, rms, sine
from tests.hands import settled

RATE = 44_100


@pytest.fixture
def engine():
    made = Engine()
    yield made
    made.close()


def line(*kinds, **settings):
    return tuple(
        Treatment(id=f"t{i}", kind=kind, settings=tuple(sorted(settings.items())) if not i else ())
        for i, kind in enumerate(kinds)
    )


def plain(loop):
    for layer in loop.layers:
        loop = line_edits.set_line(loop, layer.id, ())
    return line_edits.set_line(loop, None, ())


def bright(audio):
    """Energy above 2 kHz against all of it, in dB."""
    power = np.abs(np.fft.rfft(audio.mean(axis=0))) ** 2
    hz = np.fft.rfftfreq(audio.shape[1], 1 / RATE)
    return 10 * np.log10(power[hz > 2000].sum() / power.sum())


@pytest.mark.parametrize("where", ["l1", "g1", None])
def test_a_key_goes_through_the_line_of_its_layer_its_group_and_the_loop(engine, small_loop, where):
    loop = layer_edits.group_layers(plain(small_loop), ["l1"])
    cut = line_edits.set_line(loop, where, line("cuts", high_cut_hz=600.0))
    through, plainly = (played_key(p, 60, 100, "l1") for p in (cut, loop))
    assert bright(engine.once(through)) < bright(engine.once(plainly)) - 15
    moments = [first_moment(one, engine.tones) for one in (through, plainly)]
    assert bright(moments[0]) < bright(moments[1]) - 15
    bare = engine.once(played_key(cut, 60, 100, "l1", written=True))
    # While the bare loop is heard, keys are bare.
    assert bright(bare) > bright(engine.once(through)) + 15


def test_a_key_is_as_loud_as_its_layer(engine, small_loop):
    loop = plain(small_loop)
    soft = layer_edits.set_layer(loop, "l1", level_db=loop.layer("l1").level_db - 12)
    levels = [rms(engine.once(played_key(p, 60, 100, "l1"))[:, :RATE]) for p in (loop, soft)]
    assert db(levels[1] / levels[0]) == pytest.approx(-12, abs=0.01)


@pytest.mark.parametrize(
    ("way", "by"), [("keep length", -3.0), ("like tape", -5.0), ("keep length", -12.0)]
)
def test_a_shift_is_played_and_time_is_left_out(engine, small_loop, way, by):
    loop = line_edits.set_line(plain(small_loop), None, line("shift", "reverse", "half speed",
                                                        semitones=by, way=way))  # fmt: skip
    audio = first_moment(played_key(loop, 69, 90, "l1"), engine.tones)
    heard = main_hz(audio[:, 4000:], 150, 600)
    assert 1200 * np.log2(heard / (440 * 2 ** (by / 12))) == pytest.approx(0, abs=8)
    assert left_out(loop, loop.layer("l1")) == ("reverse", "half speed")
    assert left_out(plain(small_loop), None) == ()
    assert tried_line(loop.line) == ((), round(by))


# What sways is elsewhere on its way in the whole: then it is the level that is compared.
@pytest.mark.parametrize(
    ("kinds", "sways"),
    [(("hall",), False), (("overdrive", "chorus"), True), (("weathering", "cuts"), True),
     (("compressor", "plate", "limiter"), False), (("tape", "cuts"), False)],
)  # fmt: skip
def test_the_first_moment_is_nearly_what_the_whole_begins_with(engine, small_loop, kinds, sways):
    noises = {"hiss_db": -96.0, "crackle_db": -96.0, "dust_db": -96.0, "rumble_db": -96.0}
    laid = [Treatment(id=f"t{i}", kind=kind) for i, kind in enumerate(kinds)]
    fields = {f.name for f in KINDS[kinds[0]].spec}
    for name, value in noises.items():
        if name in fields:
            laid[0] = laid[0].set(name, max(value, KINDS[kinds[0]].spec[name].low))
    loop = line_edits.set_line(plain(small_loop), "l1", tuple(laid))
    short = played_key(loop, 57, 100, "l1")
    moment, whole = first_moment(short, engine.tones), engine.once(short)
    part = np.s_[:, int(0.08 * RATE) : int(0.33 * RATE)]
    assert moment.shape[1] == int(FIRST_S * RATE)
    if not sways:
        assert db(rms(moment[part] - whole[part]) / rms(whole[part])) < -12
    assert db(rms(moment[part]) / rms(whole[part])) == pytest.approx(0, abs=1.0)


def test_every_treatment_can_be_tried(engine, small_loop):
    loop = plain(small_loop)
    for kind in KINDS:
        laid = line_edits.set_line(loop, "l1", line(kind))
        audio = first_moment(played_key(laid, 60, 100, "l1"), engine.tones, 0.2)
        assert audio.shape == (2, int(0.2 * RATE)) and np.isfinite(audio).all(), kind
        assert rms(audio) > 1e-5, kind


def test_tried_chords_go_through_the_lines_of_who_strikes_them(engine, small_loop):
    loop = line_edits.set_line(plain(small_loop), None, line("cuts", high_cut_hz=600.0))
    chord = loop.chords[1]
    through = engine.once(tried(loop, (chord,)))
    bare = engine.once(tried(plain(small_loop), (chord,)))
    assert bright(through) < bright(bare) - 12
    low = msgspec.structs.replace(chord, voices=(14, 26, 33), root=2)
    octave = line_edits.set_line(loop, None, line("shift", semitones=-12.0))
    assert min(v for c in tried(octave, (low,)).chords for v in c.voices) >= 12  # in reach


def test_a_key_that_is_let_go_is_released_and_its_space_rings_on(window, qtbot, speaker):
    session = window.session
    session.apply("x", lambda p: line_edits.set_line(plain(p), "l2", line("hall", decay_s=4.0)))
    settled(qtbot, session)
    session.hearing.once.key_down(60, 100, "l2")
    qtbot.waitUntil(lambda: session.player.striking, timeout=20_000)
    held = rms(session.player.pull(int(0.4 * RATE)))
    assert held > 1e-3
    session.hearing.once.key_up(60)
    qtbot.waitUntil(lambda: not session.hearing.once.busy, timeout=20_000)
    after = [rms(session.player.pull(int(0.25 * RATE))) for _ in range(24)]
    assert after[2] > 1e-4  # the hall rings on
    assert after[-1] < 0.3 * after[2]  # and the note is over: it is not held for its eight beats
    session.hearing.hear(BARE)
    session.hearing.once.key_down(60, 100, "l2")
    session.hearing.once.key_up(60)
    qtbot.waitUntil(lambda: not session.hearing.once.busy, timeout=20_000)


def recorded(monkeypatch, player):
    """What the player is handed, in order: what it is, of which key, and whether more comes."""
    handed = []
    for name in ("strike", "go_on"):

        def hand(name, real, audio, group, **how):
            handed.append((name, group, how.get("more", False)))
            return real(audio, group, **how)

        monkeypatch.setattr(player, name, partial(hand, name, getattr(player, name)))
    return handed


def test_a_key_is_heard_by_its_onset_then_a_moment_then_whole(window, qtbot, monkeypatch):
    session = window.session
    handed = recorded(monkeypatch, session.player)
    session.hearing.once.key_down(60, 100, "l2")
    qtbot.waitUntil(lambda: not session.hearing.once.busy, timeout=20_000)
    assert handed == [("strike", "key 60", True), ("go_on", "key 60", True),
                      ("go_on", "key 60", False)]  # fmt: skip
    session.hearing.once.key_up(60)


def test_a_key_that_is_tapped_is_not_held_again_by_a_moment_that_comes_late(
    window, qtbot, monkeypatch
):
    session, late = window.session, threading.Event()
    handed = recorded(monkeypatch, session.player)

    def first(loop, tones, seconds):
        if seconds == FIRST_S:
            assert late.wait(20)
        return first_moment(loop, tones, seconds)

    monkeypatch.setattr(heard_once, "first_moment", first)
    session.hearing.once.key_down(60, 100, "l2")
    qtbot.waitUntil(lambda: session.player.striking, timeout=20_000)
    session.hearing.once.key_up(60)
    qtbot.waitUntil(lambda: len(handed) == 2, timeout=20_000)
    late.set()
    qtbot.waitUntil(lambda: not session.hearing.once.busy, timeout=20_000)
    assert handed == [("strike", "key 60", True), ("go_on", "key 60", False)]


def test_a_key_does_not_wait_for_the_rest_of_another(window, qtbot, monkeypatch):
    session, go = window.session, threading.Event()
    handed = recorded(monkeypatch, session.player)
    begun, once = threading.Event(), session.engine.once

    def slow(loop, *rest):
        begun.set()
        assert go.wait(20)
        return once(loop, *rest)

    monkeypatch.setattr(session.engine, "once", slow)
    session.hearing.once.key_down(60, 100, "l2")
    assert begun.wait(20)
    session.hearing.once.key_down(64, 100, "l2")
    qtbot.waitUntil(lambda: ("strike", "key 64", True) in handed, timeout=20_000)
    go.set()
    qtbot.waitUntil(lambda: not session.hearing.once.busy, timeout=20_000)
    for pitch in (60, 64):
        session.hearing.once.key_up(pitch)


def test_the_finder_says_what_keys_are_heard_without(window):
    session = window.session
    window.show_stage(1)
    session.select(layer_id="l1")
    window.open_keys()
    assert "Heard without" not in window.keys.words.text()
    session.apply("x", lambda p: line_edits.add_treatment(p, None, "half speed"))
    assert window.keys.words.text().endswith("Ignored: half speed.")
    window.show_stage(0)
    window.chords.next.refresh()
    assert "without half speed" in window.chords.next.hint.text()


# --- the player goes on ---------------------------------------------------------------------------


def test_what_goes_on_does_so_from_where_it_is_without_a_step():
    player = Player(RATE)
    tone = sine(440, 2.0)
    player.strike(tone[:, : RATE // 2], "key", more=True)
    first = player.pull(RATE // 4)
    player.go_on(tone, "key")
    out = np.concatenate([first, player.pull(RATE)])
    assert np.abs(out.T - tone[:, : len(out)]).max() < 1e-4


def test_what_goes_on_may_go_on_again():
    player = Player(RATE)
    tone = sine(440, 2.0)
    player.strike(tone[:, :4000], "key", more=True)
    first = player.pull(3000)
    player.go_on(tone[:, :12_000], "key", more=True)
    second = player.pull(8000)
    player.go_on(tone, "key")
    out = np.concatenate([first, second, player.pull(20_000)])
    assert np.abs(out.T - tone[:, : len(out)]).max() < 1e-4


def test_what_comes_late_goes_on_after_a_silence_and_what_is_hushed_does_not():
    player = Player(RATE)
    tone = sine(440, 2.0)
    player.strike(tone[:, :4000], "key", more=True)
    player.pull(10_000)
    assert player.striking and rms(player.pull(2000)) == 0
    player.go_on(tone, "key")
    player.pull(2000)
    assert np.abs(player.pull(2000).T - tone[:, 14_000:16_000]).max() < 1e-4
    player.hush("key")
    player.pull(2000)
    assert not player.striking
    player.go_on(tone, "key")  # nothing rings that could go on
    assert rms(player.pull(2000)) == 0
    player.strike(tone[:, :4000], "key")
    player.pull(8000)
    assert not player.striking  # without more to come it is over
