"""The exchange: what is found, fetched and heard; what goes wrong is said; nothing is lost."""

import json
import shutil

import numpy as np
import pytest
from click.testing import CliRunner
from PyQt6.QtCore import Qt

from cloudrift.audio.files import read_audio
from cloudrift.cli.main import commands
from cloudrift.desktop.stages.find.rows import about, row_of
from cloudrift.exchange import Found, Offer, StandIn, Wanted
from cloudrift.exchange.recipes import loop_of, recipes
from cloudrift.exchange.service import ExchangeError, found_among
from cloudrift.exchange.stand_in import AWAY, REFUSED, SLOW
from cloudrift.ground.cancel import Cancelled, never
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.layers import recordings
from cloudrift.loop.sounding import notes_of
from cloudrift.notes.listening import read_and_listen
from cloudrift.texture.finish_files import house_finishes
from cloudrift.theory import Key
from tests.hands import settled

pytestmark = pytest.mark.usefixtures("remembering")  # sound is a means here


def still(*_what):
    pass


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    """Where phrases are kept that were made once for all tests."""
    return tmp_path_factory.mktemp("exchange")


@pytest.fixture
def service(folder):
    return StandIn(folder, moods=None)


def offer(**what):
    usual = dict(id="x", name="Quay light", maker="Pell Strand", licence="free", kind="phrase",
                 words=("voice", "soft"), key=Key("E", "minor"), tempo=96.0, bars=4)  # fmt: skip
    return Offer(**(usual | what))


# --- looking --------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("wanted", "there"),
    [(dict(words="voice"), True), (dict(words="SOFT quay"), True),
     (dict(words="voice loud"), False), (dict(words="pell"), True), (dict(kind="loop"), False),
     (dict(kind="phrase"), True),
     (dict(key=Key("G", "major")), True), (dict(key=Key("C#", "minor")), True),
     (dict(key=Key("C#", "minor"), within_st=2), False), (dict(tempo=100.0), True),
     (dict(tempo=120.0), False), (dict(tempo=192.0), True), (dict(tempo=48.0), True),
     (dict(licence="FREE"), True), (dict(licence="sold"), False)],
)  # fmt: skip
def test_what_is_wanted_is_found(wanted, there):
    assert bool(found_among([offer()], Wanted(**wanted))) == there


def test_the_nearest_comes_first_and_says_how_far_it_is():
    offers = [offer(id="far", name="A", key=Key("A", "minor")), offer(id="near", name="B"),
              offer(id="bed", name="C", kind="bed", key=None, tempo=0.0)]  # fmt: skip
    found = found_among(offers, Wanted(key=Key("F", "minor"), tempo=98.0))
    assert [one.offer.id for one in found] == ["bed", "near", "far"]
    assert [one.semitones for one in found] == [0, 1, -4]
    assert found[1].pace == pytest.approx(98 / 96)
    double = found_among([offer()], Wanted(tempo=190.0))[0]
    assert double.pace == pytest.approx(190 / 192)


def test_rows_say_what_it_takes():
    found = Found(offer(), -3, 0.9)
    assert row_of(found)[2:4] == ("E minor  −3 st", "96 BPM  −10 %")
    assert "−3 semitones to the key; −10 % to the tempo" in about(found)
    assert "fits unchanged" in about(Found(offer(licence=""), 0, 1.0))
    assert "licence unknown" in about(Found(offer(licence=""), 0, 1.0))
    assert row_of(Found(offer(bars=0, seconds=2.5), 0, 1.0))[4] == "2.5 s"


# --- the stand-in ---------------------------------------------------------------------------------


def test_there_are_eighty_recipes_and_more_of_every_kind():
    found = recipes().values()
    assert len(found) >= 80
    kinds = [one.kind for one in found]
    assert all(kinds.count(kind) >= 8 for kind in ("one-shot", "phrase", "loop", "bed"))
    words = " ".join(one.words for one in found)
    for wanted in ("vowel", "choir", "held", "spoken", "whisper", "breath", "pluck", "blown",
                   "texture", "rain", "crowd", "room", "rhythm"):  # fmt: skip
        assert wanted in words
    assert all(one.licence and one.maker for one in found)
    assert sum(bool(one.says) for one in found) >= 5
    names = {one.name.lower().replace(" ", "-") for one in house_finishes()}
    assert {one.finish for one in found if one.finish} <= names


@pytest.mark.parametrize("name", list(recipes()))
def test_every_recipe_is_a_loop(name):
    recipe = recipes()[name]
    loop = loop_of(recipe)
    assert (loop.tempo, loop.key, loop.bars) == (recipe.tempo, recipe.true_key, recipe.bars)
    assert len(loop.layers) == len(recipe.play)
    assert all(notes_of(loop, layer) for layer in loop.layers)


def test_what_is_fetched_sounds_as_its_label_says(service):
    path = service.fetch("pin-prick", never, still)
    audio, rate, heard = read_and_listen(path)
    wrote = recipes()["pin-prick"]
    assert heard.labels.tempo == wrote.tempo and heard.labels.licence == wrote.licence
    assert heard.labels.maker == wrote.maker and heard.labels.title == wrote.name
    assert abs(heard.tempos[0].tempo - wrote.tempo) < 0.1
    assert set(heard.keys[0].key.scale) == set(wrote.true_key.scale)
    assert heard.doubts == ()
    assert audio.shape[1] == pytest.approx(wrote.bars * 4 * 60 / wrote.tempo * rate, abs=2)
    assert heard.lufs == pytest.approx(-18, abs=1) or np.abs(audio).max() > 0.85


def test_what_is_labelled_wrong_on_purpose_is_noticed(service):
    heard = read_and_listen(service.fetch("winter-vespers", never, still))[2]
    assert heard.doubts == ("written E major, estimated G minor",)


def test_what_was_made_is_not_made_again(service, monkeypatch):
    first = service.fetch("pin-prick", never, still)
    monkeypatch.setattr("cloudrift.exchange.stand_in.sound_of", None)
    said = []
    assert (
        service.fetch("pin-prick", never, lambda share, words: said.append((share, words))) == first
    )
    assert said[-1] == (1.0, "fetched Pin prick")


def test_it_is_in_its_moods_as_often_as_it_says(folder, monkeypatch):
    monkeypatch.setattr("cloudrift.exchange.stand_in.WAIT_S", 0.0)
    service = StandIn(folder, moods=4)
    said = []
    for _ in range(400):
        try:
            service.search(Wanted(), never)
        except ExchangeError as error:
            said.append(str(error))
    away = sum("is busy" in one for one in said)
    assert 0.5 * AWAY < away / 400 < 2 * AWAY
    assert 0.5 * REFUSED < (len(said) - away) / 400 < 2 * REFUSED
    assert all("try again" in one for one in said)
    again = StandIn(folder, moods=4)
    outcomes = [0, 0]
    for which, one in enumerate((StandIn(folder, moods=4), again)):
        for _ in range(60):
            try:
                one.search(Wanted(), never)
            except ExchangeError:
                outcomes[which] += 1
    assert outcomes[0] == outcomes[1] > 0  # a variation, not chance
    assert SLOW > 0


def test_a_slow_answer_is_left_when_it_is_no_longer_wanted(folder, monkeypatch):
    monkeypatch.setattr("cloudrift.exchange.stand_in.WAIT_S", 1e6)
    monkeypatch.setattr("cloudrift.exchange.stand_in.AWAY", 0.0)
    monkeypatch.setattr("cloudrift.exchange.stand_in.REFUSED", 0.0)
    monkeypatch.setattr("cloudrift.exchange.stand_in.SLOW", 1.0)
    with pytest.raises(Cancelled):
        StandIn(folder, moods=1).search(Wanted(), lambda: True)


def test_what_is_not_there_is_said(service, tmp_path):
    with pytest.raises(ExchangeError, match="nothing called nobody"):
        service.fetch("nobody", never, still)
    blocked = tmp_path / "file"
    blocked.write_text("x")
    with pytest.raises(CloudriftError, match="could not make the folder"):
        StandIn(blocked / "inside", moods=None).fetch("knock-twice", never, still)
    with pytest.raises(Cancelled):
        StandIn(tmp_path / "new", moods=None).fetch("knock-twice", lambda: True, still)
    assert not list((tmp_path / "new").glob("*"))


# --- the command line -----------------------------------------------------------------------------


def test_the_exchange_is_asked_on_the_command_line(tmp_path, monkeypatch, folder):
    cache = tmp_path / "cache"
    monkeypatch.setenv("XDG_CACHE_HOME", str(cache))
    (cache / "cloudrift").mkdir(parents=True)
    shutil.copytree(folder, cache / "cloudrift" / "exchange")
    run = CliRunner()
    facts = json.loads(run.invoke(commands, ["exchange", "pluck", "--key", "Eb minor", "--tempo",
                                             "140", "--json"]).output)  # fmt: skip
    assert facts[0]["name"] == "Pin prick" and facts[0]["semitones"] == 0
    listed = run.invoke(commands, ["exchange", "pluck", "--key", "Eb minor"]).output
    assert "Pin prick (" in listed and "E♭ minor" in listed
    out = tmp_path / "got.flac"
    said = run.invoke(commands, ["exchange", "pin prick", "--fetch", "1", "-o", str(out)]).output
    assert "Pin prick by" in said and read_audio(out)[0].any()
    assert "nothing found" in run.invoke(commands, ["exchange", "zzz"]).output
    wrong = run.invoke(commands, ["exchange", "zzz", "--fetch", "1"])
    assert "no number 1" in str(wrong.exception)


# --- the drawer -----------------------------------------------------------------------------------


@pytest.fixture
def drawer(qtbot, window, service):
    window.show_stage(1)
    found = window.recordings
    found._services["Exchange"] = service
    window.open_or_close("Recordings")
    qtbot.waitUntil(lambda: bool(found.found), timeout=10_000)
    return found


def look_for(qtbot, drawer, words):
    drawer.search.setText(words)
    qtbot.waitUntil(lambda: bool(drawer.found) and words in drawer.found[0].offer.name.lower(),
                    timeout=10_000)  # fmt: skip
    drawer.list.setCurrentItem(drawer.list.topLevelItem(0))


def widest(drawer):
    drawer.within.type_text("6")
    drawer.stretch.type_text("100")


def test_a_phrase_is_heard_in_place_and_taken(qtbot, window, drawer):
    session, before = window.session, window.session.loop
    widest(drawer)
    look_for(qtbot, drawer, "pin prick")
    qtbot.mouseClick(drawer.hearing, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: session.hearing.previewing, timeout=60_000)
    assert session.loop is before and session.player.playing
    shown = session.hearing.shown.layers[-1].recorded
    assert shown.semitones == 3 and shown.fit == "tempo"  # E flat minor into F sharp minor
    qtbot.mouseClick(drawer.hearing, Qt.MouseButton.LeftButton)
    assert not session.hearing.previewing and not session.player.playing
    qtbot.mouseClick(drawer.add, Qt.MouseButton.LeftButton)
    source = session.loop.layers[-1].recorded
    assert source == shown
    assert source.facts.licence == recipes()["pin-prick"].licence
    assert source.facts.origin == "the exchange"
    assert session.selection.layer_id == session.loop.layers[-1].id
    assert "Pin prick is now a layer" in window.message.text()
    session.document.undo()
    assert session.loop is before


def test_a_recording_is_replaced_by_another_as_it_lies_and_is_treated(qtbot, window, drawer):
    session = window.session
    widest(drawer)
    look_for(qtbot, drawer, "pin prick")
    assert not drawer.instead.isEnabled()
    qtbot.mouseClick(drawer.add, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(session.loop.layers) == 5, timeout=60_000)
    layer_id = session.loop.layers[-1].id
    session.apply("x", lambda p: recordings.set_recording(p, layer_id, at_tick=960))
    look_for(qtbot, drawer, "winter vespers")
    assert drawer.instead.isEnabled()
    qtbot.mouseClick(drawer.instead, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: session.loop.layers[-1].name == "Winter vespers", timeout=20_000)
    source = session.loop.layers[-1].recorded
    assert (len(session.loop.layers), source.at_tick) == (5, 960)
    assert "Check by ear: written E major, estimated G minor" in window.message.text()


def test_what_goes_wrong_is_said_and_tried_again(qtbot, window, drawer, service, monkeypatch):
    widest(drawer)
    look_for(qtbot, drawer, "pin prick")
    before = window.session.loop

    def away(*_what):
        raise ExchangeError("the exchange does not answer; try again")

    monkeypatch.setattr(service, "fetch", away)
    qtbot.mouseClick(drawer.add, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "does not answer" in drawer.says.text(), timeout=10_000)
    assert window.session.loop is before and drawer.again.isVisible()
    monkeypatch.undo()
    qtbot.mouseClick(drawer.again, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(window.session.loop.layers) == 5, timeout=60_000)
    assert not drawer.again.isVisible()


def test_fetching_is_stopped_by_a_press(qtbot, window, drawer, service, monkeypatch):
    look_for(qtbot, drawer, "o")
    begun = []

    def slow(_offer, cancelled, moved):
        moved(0.4, "fetching it")
        begun.append(1)
        while not cancelled():
            pass
        raise Cancelled

    monkeypatch.setattr(service, "fetch", slow)
    before = window.session.loop
    drawer.take()
    qtbot.waitUntil(lambda: bool(begun) and drawer.stop_it.isVisible(), timeout=10_000)
    qtbot.waitUntil(lambda: drawer.progress.value() == 28, timeout=10_000)
    qtbot.mouseClick(drawer.stop_it, Qt.MouseButton.LeftButton)
    assert not drawer.progress.isVisible()
    settled(qtbot, window.session)
    assert window.session.loop is before


def test_filters_narrow_what_is_found(qtbot, drawer):
    widest(drawer)
    qtbot.waitUntil(lambda: len(drawer.found) > 60, timeout=10_000)
    every = len(drawer.found)
    qtbot.mouseClick(drawer.kinds.button("bed"), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(drawer.found) == 10, timeout=10_000)
    qtbot.mouseClick(drawer.kinds.button(""), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(drawer.found) == every, timeout=10_000)
    drawer.within.type_text("0")
    qtbot.waitUntil(lambda: len(drawer.found) < every, timeout=10_000)
    assert all(one.semitones == 0 for one in drawer.found)
    drawer.search.setText("zzz")
    qtbot.waitUntil(lambda: "nothing found" in drawer.says.text(), timeout=10_000)
    assert not drawer.add.isEnabled() and not drawer.hearing.isEnabled()


def test_the_drawer_closes_with_what_is_heard(qtbot, window, drawer):
    widest(drawer)
    look_for(qtbot, drawer, "pin prick")
    drawer.hear()
    qtbot.waitUntil(lambda: window.session.hearing.previewing, timeout=60_000)
    qtbot.keyClick(drawer, Qt.Key.Key_Escape)
    assert not window.session.hearing.previewing and drawer.isVisible()
    drawer.hear()
    qtbot.waitUntil(lambda: window.session.hearing.previewing, timeout=10_000)
    window.open_or_close("Shelf")
    assert not drawer.isVisible() and not window.session.hearing.previewing
    window.open_or_close("Recordings")
    qtbot.keyClick(drawer, Qt.Key.Key_Escape)
    assert not drawer.isVisible()
