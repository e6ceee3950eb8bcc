"""Tones on disk: the same sound as computed, whatever becomes of the folder."""

import ast
import os
import threading
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from cloudrift.audio.clips import ClipStore
from cloudrift.audio.files import PART
from cloudrift.render import Engine
from cloudrift.sound import kept_tones
from cloudrift.sound.catalogue import CATALOGUE
from cloudrift.sound.instrument import Tone, ToneRequest
from cloudrift.sound.kept_tones import BLOCK, KeptTones, usual_folder
from cloudrift.sound.tones import ToneCache


@pytest.fixture
def kept(tmp_path):
    made = KeptTones(tmp_path / "tones")
    yield made
    made.close()


def drawn(frames, seed=1, one=False):
    rng = np.random.default_rng(seed)
    soft = rng.standard_normal((2, frames)).astype(np.float32)
    return Tone(soft, soft if one else rng.standard_normal((2, frames)).astype(np.float32))


def put(kept, key, tone):
    kept.put(key, tone, 50.0)
    kept.close()  # written by then


def files_of(kept):
    return sorted(kept._folder.iterdir())


def equal(one, other, frames):
    return all(
        np.array_equal(a[:, :frames], b[:, :frames]) for a, b in zip(one, other, strict=True)
    )


@pytest.mark.parametrize("frames", [1, BLOCK - 1, BLOCK, BLOCK + 1, 3 * BLOCK + 17])
@pytest.mark.parametrize("one", [False, True])
def test_a_tone_comes_back_to_the_last_bit(kept, tmp_path, frames, one):
    tone = drawn(frames, one=one)
    put(kept, ("felt", 60), tone)
    other = KeptTones(tmp_path / "tones")  # another program
    for wanted in {1, frames // 2 + 1, frames}:
        found = other.get(("felt", 60), wanted)
        assert wanted <= found.soft.shape[1] <= min(frames, wanted + BLOCK)
        assert equal(found, tone, found.soft.shape[1])
        assert np.shares_memory(found.soft, found.hard) == one
    assert other.get(("felt", 60), frames + 1) is None
    assert other.get(("felt", 61), 1) is None


def test_a_longer_tone_takes_the_place_of_a_shorter_one(kept):
    put(kept, "a", drawn(1000))
    longer = drawn(5000, seed=2)
    put(kept, "a", longer)
    assert len(files_of(kept)) == 1
    assert equal(kept.get("a", 5000), longer, 5000)


def cut_short(path):
    path.write_bytes(path.read_bytes()[:-5])


def turn_a_bit(path):
    data = bytearray(path.read_bytes())
    data[-100] ^= 4
    path.write_bytes(data)


def claim_more(path):
    data = bytearray(path.read_bytes())
    data[8:16] = (1 << 40).to_bytes(8, "little")
    path.write_bytes(data)


def empty(path):
    path.write_bytes(b"")


def other_file(path):
    path.write_bytes(b"RIFF" + bytes(400))


def later_design(path):
    path.write_bytes(b"cr-tone9" + path.read_bytes()[8:])


def folder_instead(path):
    path.unlink()
    path.mkdir()


@pytest.mark.parametrize("spoil", [cut_short, turn_a_bit, claim_more, empty, other_file,
                                   later_design, folder_instead])  # fmt: skip
def test_what_is_damaged_is_as_if_it_were_not_there(kept, spoil):
    tone = drawn(2 * BLOCK)
    put(kept, "a", tone)
    (path,) = files_of(kept)
    spoil(path)
    assert kept.get("a", 2 * BLOCK) is None
    if spoil is not folder_instead:
        put(kept, "a", tone)  # made anew, it is whole again
        assert equal(kept.get("a", 2 * BLOCK), tone, 2 * BLOCK)


def test_what_was_wanted_longest_ago_goes_first(tmp_path):
    size = 2 * 2 * 4 * 1000
    kept = KeptTones(tmp_path, limit_bytes=int(5.5 * size))
    for i in range(5):
        put(kept, i, drawn(1000, seed=i))
    for i, path in enumerate(kept._path(i) for i in range(5)):
        os.utime(path, (0, time.time() - 10 * kept_tones.USED_S + i))
    assert kept.get(0, 10)  # wanted again
    put(kept, 5, drawn(1000))
    assert [i for i in range(6) if kept.get(i, 10)] == [0, 3, 4, 5]
    assert sum(path.stat().st_size for path in files_of(kept)) <= 5.5 * size


def test_two_programs_write_and_read_at_once(tmp_path):
    tones = [drawn(3000, seed=i) for i in range(12)]
    limit = 6 * 2 * 2 * 4 * 3000
    wrong = []

    def run(order):
        kept = KeptTones(tmp_path, limit_bytes=limit)
        for _ in range(6):
            for i in order:
                found = kept.get(i, 3000)
                if found is None:
                    put(kept, i, tones[i])
                elif not equal(found, tones[i], 3000):
                    wrong.append(i)

    threads = [threading.Thread(target=run, args=(order,))
               for order in (range(12), range(11, -1, -1))]  # fmt: skip
    for one in threads:
        one.start()
    for one in threads:
        one.join()
    assert not wrong
    assert not [path for path in tmp_path.iterdir() if path.suffix == PART]


def test_a_folder_that_cannot_be_written_costs_nothing(tmp_path):
    (tmp_path / "file").write_text("in the way")
    kept = KeptTones(tmp_path / "file" / "tones")
    put(kept, "a", drawn(100))
    assert kept.get("a", 100) is None


def test_what_is_cheap_is_not_kept_nor_what_waits_too_long(kept, monkeypatch):
    kept.put("cheap", drawn(100), kept_tones.DEAR_MS / 2)
    monkeypatch.setattr(kept_tones, "WAITING_BYTES", 100)
    kept.put("large", drawn(100), 50.0)
    kept.close()
    assert kept.get("cheap", 100) is None
    assert kept.get("large", 100) is None


def test_other_code_makes_other_tones(kept, monkeypatch):
    put(kept, "a", drawn(100))
    assert kept.get("a", 100)
    monkeypatch.setattr(kept_tones, "_code", lambda: b"of a later version" * 3)
    assert kept.get("a", 100) is None


def test_all_that_a_tone_can_come_from_is_in_its_key():
    root = Path(kept_tones.__file__).parent
    found = set()
    for path in root.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("cloudrift."):
                found.add(node.module.split(".")[1])
    assert found <= set(kept_tones.PACKAGES)


def played(name, pitch, tones, frames=44_100):
    sound = CATALOGUE[name]
    request = ToneRequest(pitch=pitch, variant=0, frames=frames, rate=44_100,
                          settings=sound.spec.full(()), clips=ClipStore())  # fmt: skip
    return tones.tone(sound, (), request)


def test_a_computed_tone_is_read_the_next_time(tmp_path, monkeypatch):
    first = ToneCache(kept=KeptTones(tmp_path))
    computed = played("felt upright", 60, first)
    first.close()
    assert len(list(tmp_path.iterdir())) == 1

    def not_again(self, *_):
        raise AssertionError

    again = ToneCache(kept=KeptTones(tmp_path))
    monkeypatch.setattr(KeptTones, "put", not_again)
    assert equal(played("felt upright", 60, again), computed, 44_100)


def test_what_plays_recordings_is_not_kept(tmp_path):
    tones = ToneCache(kept=KeptTones(tmp_path))
    own = replace(CATALOGUE["felt upright"], family="own", content="a recording")
    request = ToneRequest(pitch=60, variant=0, frames=44_100, rate=44_100,
                          settings=own.spec.full(()), clips=ClipStore())  # fmt: skip
    tones.tone(own, (), request)
    assert tones.make_ahead(own, (), request) == 0
    tones.close()
    assert not list(tmp_path.iterdir())


def test_another_pitch_setting_or_design_is_another_tone(tmp_path):
    tones = ToneCache(kept=KeptTones(tmp_path))
    for pitch in (60, 61):
        played("felt upright", pitch, tones)
    sound = CATALOGUE["felt upright"]
    tones.tone(sound, (("detune_cents", 9.0),), ToneRequest(
        pitch=60, variant=0, frames=44_100, rate=44_100,
        settings=sound.spec.full((("detune_cents", 9.0),)), clips=ClipStore()))  # fmt: skip
    tones.close()
    assert len(list(tmp_path.iterdir())) == 3


def test_a_loop_with_its_tones_on_disk_sounds_the_same(tmp_path, small_loop):
    heard = []
    for _ in range(2):
        engine = Engine(kept=KeptTones(tmp_path))
        heard.append(engine.render(small_loop).audio)
        engine.close()
    assert len(list(tmp_path.iterdir())) > 10
    assert np.abs(heard[0] - heard[1]).max() < 1e-6


def test_they_lie_in_the_users_cache(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    assert usual_folder() == tmp_path / "cloudrift" / "tones"
