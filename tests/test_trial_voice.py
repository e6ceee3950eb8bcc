"""A voice sung over the arrangement on trial: where it lies, how far over, what is kept."""

import numpy as np
import pytest

from cloudrift.audio.clips import ClipStore
from cloudrift.deliver.arranged import deliver_all
from cloudrift.desktop.stages.arrange import voice_taker
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.arranging.arranging import add_take, arrange, forget_take, set_take
from cloudrift.loop.files.storage import load_document, save
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.sections import MOST_TAKES, VoiceTake
from cloudrift.render.forms.spans import lengths_of
from cloudrift.render.forms.trial_voice import PART_S, kept_in, laid_over, over_rest_db
from tests.hands import saved, settled
from tests.test_arrange_stage import made, now, played, stage  # noqa: F401
from tests.test_arranging import DOCUMENT

pytestmark = pytest.mark.usefixtures("remembering")  # sound is a means here

RATE = 44_100
CLIP = "0" * 24


def tone(seconds, hz=2000.0, peak=0.3, rate=RATE):
    t = np.arange(int(seconds * rate)) / rate
    return np.tile((peak * np.sin(2 * np.pi * hz * t)).astype(np.float32), (2, 1))


# --- values ---------------------------------------------------------------------------------------


def test_takes_are_kept_chosen_turned_and_let_go():
    document = DOCUMENT
    for at_s in (0.0, 3.25):
        document = add_take(document, (CLIP,), at_s)
    assert [one.name for one in document.arrangement.takes] == ["Take 1", "Take 2"]
    first, second = document.arrangement.takes
    assert document.arrangement.take == second and second.at_s == 3.25
    document = set_take(document, second.id, gain_db=-3.0)
    assert document.arrangement.take.gain_db == -3
    gone = forget_take(document, second.id)
    assert gone.arrangement.take == first
    assert forget_take(gone, first.id).arrangement == DOCUMENT.arrangement
    assert arrange(document, voice="").arrangement.take is None


@pytest.mark.parametrize(("changes", "says"), [
    ({"gain_db": 90.0}, "level is 90 dB"), ({"at_s": -1.0}, "begins is -1 s"),
    ({"clips": ()}, "number of clips"), ({"clips": ("../x",)}, "does not name a recording"),
])  # fmt: skip
def test_a_take_that_cannot_be_is_refused(changes, says):
    with pytest.raises(CloudriftError) as told:
        VoiceTake(**({"id": "v1", "name": "Take 1", "clips": (CLIP,)} | changes))
    assert says in str(told.value)


def test_there_are_so_many_takes_at_most():
    document = DOCUMENT
    for _ in range(MOST_TAKES):
        document = add_take(document, (CLIP,), 0.0)
    with pytest.raises(CloudriftError, match="16 takes already"):
        add_take(document, (CLIP,), 0.0)


# --- sound ----------------------------------------------------------------------------------------


def test_a_long_take_is_kept_in_parts_and_laid_together_again(clips):
    audio = tone(PART_S + 4.0)
    names = kept_in(clips, audio, RATE)
    assert len(names) == 2
    take = VoiceTake(id="v1", name="Take 1", clips=names, at_s=1.5, gain_db=-6.0)
    out = laid_over(take, clips, RATE, int(60 * RATE))
    at = int(1.5 * RATE)
    assert not out[:, :at].any()
    back = out[:, at : at + audio.shape[1]] / 10 ** (-6 / 20)
    assert np.abs(back - audio).max() < 1e-5
    assert not out[:, at + audio.shape[1] :].any()
    short = laid_over(take, clips, RATE, at + 1000)  # what lies behind the end is not heard
    assert np.array_equal(short, out[:, : at + 1000])


def test_another_rate_keeps_pitch_and_place(clips):
    names = kept_in(clips, tone(1.0, 1000.0), RATE)
    take = VoiceTake(id="v1", name="Take 1", clips=names, at_s=0.5)
    out = laid_over(take, clips, 48_000, 96_000)
    heard = np.flatnonzero(np.abs(out[0]) > 0.1)
    assert heard[0] == pytest.approx(24_000, abs=50) and heard[-1] == pytest.approx(72_000, abs=50)
    spectrum = np.abs(np.fft.rfft(out[0, 24_000:72_000]))
    assert np.argmax(spectrum) == 1000  # Hz: one second


def test_how_far_a_voice_stands_over_the_rest_is_measured_where_it_is_understood():
    rest = tone(2.0, 2000.0, 0.1) + tone(2.0, 80.0, 0.4)
    assert over_rest_db(tone(2.0, 2500.0, 0.2), rest, RATE) == pytest.approx(6.0, abs=0.3)
    assert over_rest_db(tone(2.0, 200.0, 0.2), rest, RATE) < -20  # a hum is none
    assert over_rest_db(np.zeros((2, RATE), np.float32), rest, RATE) is None


def test_a_take_is_in_the_file_and_never_in_what_is_delivered(clips, tmp_path):
    names = kept_in(clips, tone(2.0), RATE)
    document = add_take(DOCUMENT, names, 0.0)
    path = tmp_path / "voice.cloudrift"
    save(document, path, clips)
    other = ClipStore()
    assert load_document(path, other) == document
    assert np.array_equal(laid_over(document.arrangement.take, other, RATE, RATE),
                          laid_over(document.arrangement.take, clips, RATE, RATE))  # fmt: skip
    with_it, without = (deliver_all(one, tmp_path / name) for one, name in
                        ((document, "a"), (DOCUMENT, "b")))  # fmt: skip
    assert with_it[0].read_bytes() == without[0].read_bytes()


# --- in the window --------------------------------------------------------------------------------


class Singer:
    """A microphone in a room where noise is sung: as loud where the arrangement is at a frame."""

    name, late_ms, stand_in = "a test", 10.0, False

    def __init__(self):
        self.push = None
        self.closed = False

    def start(self, push):
        self.push = push

    def close(self):
        self.closed = True


@pytest.fixture
def singer(monkeypatch):
    made_one = Singer()
    monkeypatch.setattr(voice_taker, "open_microphone", lambda *_given: made_one)
    return made_one


def test_what_is_sung_lies_where_it_was_heard(qtbot, window, stage, speaker, singer):  # noqa: F811
    session, late = window.session, 441
    total = sum(lengths_of(now(window)))
    noise = np.random.default_rng(3).normal(0, 0.1, total).astype(np.float32)
    stage.hear("all")
    made(qtbot, stage)
    stage.columns.choose(1)
    stage.voice.sing.click()
    assert stage.taker.taking and stage.voice.sing.text() == "Stop recording"
    assert window.session.player.playing
    sung = np.zeros(0, np.float32)  # by frames handed out
    for _ in range(260):
        speaker.pull(512)
        stamp = session.player.stamp
        at = stamp.at + np.arange(512)
        sung = np.concatenate([sung, noise[at % total] if stamp.at >= 0 else np.zeros(512)])
        heard = np.concatenate([np.zeros(512 + late), sung])[: len(sung)][-512:]
        singer.push(np.repeat(heard.astype(np.float32)[:, None], 2, axis=1))
        if len(sung) % 5120 == 0:
            stage.taker._follow()
            qtbot.wait(1)
    stage.voice.sing.click()
    qtbot.waitUntil(lambda: bool(now(window).arrangement.takes), timeout=20_000)
    assert singer.closed and not stage.taker.taking and not session.player.playing
    take = now(window).arrangement.take
    bar_s = total / 12 / RATE
    assert take.at_s == pytest.approx(4 * bar_s, abs=0.2) and take.name == "Take 1"
    laid = laid_over(take, session.clips, RATE, total)[0]
    where = np.flatnonzero(np.abs(laid) > 1e-4)
    a, b = where[0] + 8000, where[0] + 8000 + 32_768
    like = np.fft.irfft(np.fft.rfft(laid[a:b]) * np.conj(np.fft.rfft(noise[a:b])))
    lag = int(np.argmax(np.abs(like)))
    lag = lag - (b - a) if lag > (b - a) // 2 else lag
    assert abs(lag) < 0.03 * RATE  # what the test's own clock is sure of
    assert stage.voice.take.currentText() == "Take 1"
    stage.hear("all")
    made(qtbot, stage)
    assert stage.arranged.voice_over[1] > -40 and 0 not in stage.arranged.voice_over
    stage.columns.choose(1)
    assert "The guide vocal is" in stage.page.heard.text()


def test_a_take_is_heard_turned_left_out_and_forgotten(qtbot, window, stage, tmp_path):  # noqa: F811
    session = window.session
    stage.hear("all")
    made(qtbot, stage)
    plain = played(session).copy()
    names = kept_in(session.clips, tone(4.0), RATE)
    session.document.change("a take", lambda d: add_take(d, names, 1.0))
    made(qtbot, stage)
    voice = laid_over(now(window).arrangement.take, session.clips, RATE, plain.shape[1])
    assert np.allclose(played(session), np.clip(plain + voice, -1, 1), atol=1e-4)
    stage.voice.level._put(-12.0)
    made(qtbot, stage)
    assert np.allclose(played(session), np.clip(plain + voice * 10 ** (-12 / 20), -1, 1), atol=1e-4)
    path = tmp_path / "sung.cloudrift"
    assert saved(session.document.save, path)
    assert load_document(path, ClipStore()) == now(window)
    stage.voice.take.setCurrentIndex(0)
    stage.voice.take.activated.emit(0)
    made(qtbot, stage)
    assert now(window).arrangement.take is None
    assert np.allclose(played(session), plain, atol=1e-4)
    stage.voice.take.setCurrentIndex(1)
    stage.voice.take.activated.emit(1)
    stage.voice.forget.click()
    assert now(window).arrangement.takes == ()
    for _ in range(5):
        session.document.undo()
    assert now(window) == DOCUMENT
    settled(qtbot, session)


def test_what_cannot_be_sung_is_said(qtbot, window, stage, singer, monkeypatch):  # noqa: F811
    stage.voice.sing.click()
    stage.voice.sing.click()  # at once: nothing came in
    qtbot.waitUntil(lambda: not stage.taker.taking, timeout=10_000)
    assert singer.closed and now(window).arrangement.takes == ()

    def none(*_given):
        raise CloudriftError("the microphone 'x' could not be opened")

    monkeypatch.setattr(voice_taker, "open_microphone", none)
    stage.voice.sing.click()
    assert "could not be opened" in window.message.text() and not stage.taker.taking
    window.session.document.open(Document.of(now(window).loop), None)
    assert not stage.voice.sing.isEnabled()


def test_leaving_the_stage_or_closing_ends_it(qtbot, window, stage, singer):  # noqa: F811
    stage.voice.sing.click()
    window.choose_stage(0)
    qtbot.waitUntil(lambda: not stage.taker.taking, timeout=10_000)
    assert singer.closed
