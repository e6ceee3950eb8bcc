"""Finishes: those of the house, own ones as files, laid in another key and tempo."""

import msgspec
import numpy as np
import pytest
from msgspec.structs import replace

from cloudrift.audio.loudness import integrated_lufs
from cloudrift.ground import CloudriftError
from cloudrift.texture import Context, Treatment
from cloudrift.texture.finish import USES, Finish, read_finish, write_finish
from cloudrift.texture.finish_files import forget_finish, house_finishes, own_finishes, save_finish
from cloudrift.texture.running import treat
from cloudrift.texture.treatment import after, fused
from cloudrift.theory.key import Key
from tests.conftest import db, rms
from tests.test_treatments import RATE, chords_audio, treatment

N = 2 * RATE


def rich_chords():
    """Two chords an octave higher, with twelve partials each."""
    plain = chords_audio()[:, :N]
    at = np.arange(N)
    out = sum(
        plain[0, (at * k * 2) % N] * np.exp(-2 * (at % RATE) / RATE) / k for k in range(1, 13)
    )
    return np.stack([out, np.roll(out, 40)]).astype(np.float32)


def same(one, other):
    return [msgspec.structs.replace(t, id="") for t in one] == [
        msgspec.structs.replace(t, id="") for t in other
    ]


def test_the_house_has_finishes_for_every_use():
    finishes = house_finishes()
    assert len(finishes) >= 24
    assert len({f.name for f in finishes}) == len(finishes)
    for use in USES:
        assert sum(use in f.tags for f in finishes) >= 3, use
    assert all(f.purpose.endswith(".") for f in finishes)
    assert all(t.known for f in finishes for t in f.line)


@pytest.mark.parametrize("finish", house_finishes(), ids=lambda f: f.slug)
def test_a_house_finish_is_sound_loop_true_and_not_much_louder(finish):
    audio = rich_chords()
    where = Context(rate=RATE, exact_frames=float(N), tempo=60.0, cuts=(0, RATE))
    double = where.__class__(**{**where.__dict__, "passes": 2})

    def laid(sound, context):
        for group in fused(finish.laid_in(Key("A", "minor"), 60.0)):
            sound = treat(sound, group, context)
            context = after(context, group)
        return sound

    out = laid(audio, where)
    assert np.isfinite(out).all()
    assert abs(integrated_lufs(out, RATE) - integrated_lufs(audio, RATE)) < 12
    assert db(rms(out) / rms(audio)) > -14
    both = laid(np.tile(audio, 2), double)
    assert db(rms(both - np.tile(out, 2)) / rms(out)) < -45


def test_a_finish_survives_its_file():
    for finish in house_finishes():
        back = read_finish(write_finish(finish), finish.slug, house=True)
        assert same(back.line, finish.line)
        assert (back.name, back.purpose, back.tags, back.key, back.tempo) == (
            finish.name, finish.purpose, finish.tags, finish.key, finish.tempo
        )  # fmt: skip


def test_what_belongs_to_the_key_and_the_beat_goes_with_them():
    line = (treatment("equaliser", notch_hz=2000, notch_db=-12, bass_hz=150),
            treatment("hall", pre_delay_ms=40, decay_s=2.0))  # fmt: skip
    finish = Finish(name="x", purpose="", tags=(), line=line, tempo=120, key=Key("A", "minor"))
    laid = finish.laid_in(Key("C", "minor"), 60.0)
    assert laid[0].full.number("notch_hz") == pytest.approx(2000 * 2 ** (3 / 12))
    assert laid[0].full.number("bass_hz") == 150
    assert laid[1].full.number("pre_delay_ms") == 80
    assert laid[1].full.number("decay_s") == 2.0
    assert finish.laid_in(Key("A", "minor"), 120.0) == line
    down = finish.laid_in(Key("E", "minor"), 120.0)[0].full.number("notch_hz")
    assert down == pytest.approx(2000 * 2 ** (-5 / 12))  # the shorter way


def test_own_finishes_are_kept_as_files_and_a_broken_one_is_said(tmp_path):
    finish = Finish(name="Kelp & salt", purpose="Dark.", tags=("keys",), line=(treatment("cuts"),))
    assert save_finish(finish, tmp_path) == finish
    assert [path.name for path in tmp_path.iterdir()] == ["kelp-salt.toml"]
    before = (tmp_path / "kelp-salt.toml").read_bytes()
    again = replace(finish, line=(treatment("hall"),))
    assert save_finish(again, tmp_path).name == "Kelp & salt 2"  # nothing is overwritten
    assert (tmp_path / "kelp-salt.toml").read_bytes() == before
    house = replace(finish, name=house_finishes()[0].name.upper())
    assert save_finish(house, tmp_path).name.endswith(" 2")
    for saved in (save_finish(again, tmp_path), again, house):
        for number in ("", " 2", " 3"):
            forget_finish(replace(saved, name=saved.name.removesuffix(" 3") + number), tmp_path)
    save_finish(finish, tmp_path)
    (tmp_path / "broken.toml").write_text("name = 'x'\n[[treatments]]\nkind = 'hall'\nblend = 3\n")
    found, wrong = own_finishes(tmp_path)
    assert [f.name for f in found] == ["Kelp & salt"]
    assert len(wrong) == 1
    assert "broken.toml: treatment 1 (hall): dry/wet is 3" in wrong[0]
    forget_finish(finish, tmp_path)
    assert own_finishes(tmp_path)[0] == []


def test_a_finish_with_a_treatment_that_is_not_known_keeps_it():
    text = "name = 'Later'\n[[treatments]]\nkind = 'murmur'\nversion = 3\nsettings = {depth = 2}\n"
    finish = read_finish(text, "later.toml")
    assert finish.line == (Treatment(id="t1", kind="murmur", version=3, settings=(("depth", 2),)),)
    assert "murmur" in write_finish(finish)


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("name = ''\n[[treatments]]\nkind = 'cuts'", "a finish needs a name"),
        ("name = 'x'\ntreatments = []", "has no treatments; add one first"),
        ("name = 'x'\nkey = 'H minor'\n[[treatments]]\nkind = "
         "'cuts'", "x.toml.*there is no note called"),
        ("name = 'x'\n[[treatments]]\nkind = 'cuts'\n[[treatments.rides]]\nof = 'blend'\n"
         "points = [[0.5, 1]]", "a point is .tick, value."),
    ],
)  # fmt: skip
def test_what_is_wrong_in_a_finish_is_said(text, says):
    with pytest.raises(CloudriftError, match=says):
        read_finish(text, "x.toml")
