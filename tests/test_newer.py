"""What is not known here: sounds that are silent, fields of newer files; kept, named, not lost."""

import json
import zipfile

import msgspec
import numpy as np
import pytest
from msgspec.structs import replace
from PyQt6.QtWidgets import QLabel

from cloudrift.audio.clips import ClipStore
from cloudrift.ground import CloudriftError
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.arranging.section_loops import section_loop
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.files.storage import SCHEMA, document_from, load, load_document, save
from cloudrift.loop.model.bed import Bed
from cloudrift.loop.model.document import Document, Print, Recipe, RecipeLoop
from cloudrift.loop.model.hits import Hits, Stacked
from cloudrift.loop.model.layer import Layer
from cloudrift.loop.model.newer import MOST, taken_apart
from cloudrift.loop.model.sound_use import SoundUse
from cloudrift.loop.model.source import OtherSound
from cloudrift.render import Engine
from cloudrift.sound.catalogue import early_level_db
from cloudrift.sound.own import OwnSound
from cloudrift.sound.own_files import load_own, save_own
from tests.conftest import file_text, sine
from tests.hands import opened, saved, settled

STRANGE = SoundUse(name="dust harp", version=3, settings=(("grit", 4.0), ("mode", "slow")))


def text_of(what):
    return json.loads(file_text(what))


@pytest.fixture
def newer(small_loop, tmp_path):
    """A file of a newer program: it has more everywhere, and says who may read it."""
    loop = layer_edits.group_layers(
        line_edits.add_treatment(small_loop, "l2", "hall"), ["l1", "l2"]
    )
    path = tmp_path / "newer.cloudrift"
    save(loop, path)
    raw = text_of(path)
    raw |= {"schema": SCHEMA + 2, "needs": SCHEMA, "sections": [{"id": "s1", "bars": 4}]}
    raw["loop"]["swing"] = 0.6
    raw["loop"]["chords"][1]["colour"] = "plum"
    raw["loop"]["layers"][1]["fade"] = {"in_ms": 20, "curve": [1, 2.5]}
    raw["loop"]["layers"][1]["line"][-1]["wear"] = None
    raw["loop"]["layers"][2]["source"]["sound"]["pedal"] = True
    raw["loop"]["groups"][0]["depth"] = 3
    raw["loop"]["key"]["tuning_hz"] = 432
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("loop.json", json.dumps(raw))
    return path, raw, loop


# --- sounds ---------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    "use",
    [STRANGE, SoundUse(name="felt upright", version=99, settings=(("hammer", 1.0),)),
     SoundUse(name="Mine", own=OwnSound(name="Mine", house="dust harp", version=2))],
    ids=["no such sound", "a newer design", "an own one made of it"],
)  # fmt: skip
def test_a_sound_that_is_not_known_is_kept_named_and_silent(small_loop, tmp_path, use):
    loop = layer_edits.set_source(small_loop, "l1", sound=use)
    path = tmp_path / "a.cloudrift"
    save(loop, path)
    assert load(path) == loop
    assert not use.known
    assert loop.unknown == (f"the sound {use.name} (design {use.version}), silent in "
                            f"{loop.layer('l1').name}",)  # fmt: skip
    assert "Unknown here, kept as it is, and silent" in use.of.about
    engine = Engine()
    heard = engine.render(loop).audio
    without = engine.render(layer_edits.set_layer(small_loop, "l1", mute=True)).audio
    np.testing.assert_array_equal(heard, without)
    assert np.abs(engine.render(small_loop).audio - without).max() > 0.01
    engine.close()


def test_a_sound_kept_aside_that_is_not_known_is_named_too(small_loop):
    other = OtherSound(use=STRANGE, every_bars=1)
    loop = layer_edits.set_source(small_loop, "l1", other=other)
    assert "the sound dust harp (design 3)" in loop.unknown[0]
    back = layer_edits.swap_sounds(loop, "l1")
    assert back.layer("l1").source.sound is STRANGE


def test_all_that_is_done_to_a_layer_can_be_done_to_a_silent_one(small_loop):
    loop = layer_edits.set_source(small_loop, "l1", sound=STRANGE)
    loop = loop_edits.shift_key(loop, 3)
    loop = loop_edits.set_bars(loop, 4)
    assert loop.layer("l1").source.sound == STRANGE
    with pytest.raises(CloudriftError, match="there is no sound called 'dust harp'"):
        layer_edits.use_newest_design(loop, "l1")
    chosen = layer_edits.set_sound(loop, "l1", "warm pad")
    assert chosen.unknown == ()
    newest = layer_edits.use_newest_design(
        layer_edits.set_source(loop, "l1", sound=SoundUse(name="felt upright", version=99)), "l1"
    )
    assert newest.layer("l1").source.sound.known


def test_a_silent_layer_says_so_where_it_is_looked_at(window, qtbot, small_loop, tmp_path):
    path = tmp_path / "a.cloudrift"
    loop = layer_edits.set_source(small_loop, "l1", sound=STRANGE)
    save(loop, path)
    opened(window, path)
    assert window.message.text() == (
        "a.cloudrift contains data this version does not know; it stays in the file: the sound "
        "dust harp (design 3), "
        f"silent in {loop.layer('l1').name}"
    )
    window.show_stage(1)
    window.session.select(layer_id="l1")
    inspector = window.layers.inspector
    assert inspector.sound.text() == "Dust harp  ·  unknown"
    assert window.layers.heard.text().startswith(f"3 of 4 on, without {loop.layer('l1').name}")
    words = [w.text() for w in inspector.findChildren(QLabel)]
    assert any("there is no sound called 'dust harp' here" in w for w in words)
    assert not [name for name in inspector.fields if name.startswith("sound ")]
    assert window.layers.rows["l1"].sound.text() == "Dust harp: silent"
    window.show_stage(6)
    facts = [w.text() for w in window.deliver.inspector.findChildren(QLabel)]
    assert any(w.startswith("Not exported: the sound dust harp") for w in facts)
    settled(qtbot, window.session)


# --- fields of newer files ------------------------------------------------------------------------


def test_what_a_newer_program_wrote_is_there_again_when_it_is_saved(newer, tmp_path):
    path, raw, loop = newer
    document = load_document(path)
    assert document.loop == loop
    assert len(document.newer.fields) == 8
    again = tmp_path / "again.cloudrift"
    save(document, again)
    assert text_of(again) == raw
    assert load_document(again) == document


def test_what_moves_keeps_its_own_and_what_goes_takes_it_along(newer, tmp_path):
    document = load_document(newer[0])
    moved = layer_edits.move_layer(layer_edits.remove_layer(document.loop, "l3"), "l2", 1)
    again = tmp_path / "again.cloudrift"
    save(document.with_loop(moved), again)
    layers = {one["id"]: one for one in text_of(again)["loop"]["layers"]}
    assert layers["l2"]["fade"] == {"in_ms": 20, "curve": [1, 2.5]}
    assert layers["l2"]["line"][-1]["wear"] is None
    assert "l3" not in layers
    assert [one for one in layers if "fade" in layers[one]] == ["l2"]


def test_a_newer_file_is_edited_and_saved_in_the_window(window, newer, qtbot):
    path, raw, _ = newer
    opened(window, path)
    assert window.message.text() == (
        "newer.cloudrift contains data this version does not know; it stays in the file: data that "
        "a newer version of the program added"
    )
    session = window.session
    assert session.document.is_saved
    session.apply("slower", lambda loop: loop_edits.set_tempo(loop, 66))
    assert saved(session.document.save, path)
    assert text_of(path) == {**raw, "loop": {**raw["loop"], "tempo": 66.0}}
    session.document.undo()
    assert not session.document.is_saved
    session.document.keep_unsaved()
    (kept,) = session.document.keeper.shelter.folder.glob("*.cloudrift")
    assert text_of(kept)["loop"]["swing"] == 0.6


@pytest.mark.parametrize(("change", "says"), [
    (dict(needs=SCHEMA + 1), f"schema {SCHEMA + 2}, newer than this program's {SCHEMA}"),
    (dict(needs=None), f"schema {SCHEMA + 2}, newer than"),
    (dict(loop=[]), "no loop in it"),
    (dict(schema=SCHEMA), "unknown field"),
])  # fmt: skip
def test_what_may_not_be_read_so_is_refused(newer, change, says):
    _, raw, _ = newer
    raw = {k: v for k, v in {**raw, **change}.items() if v is not None}
    with pytest.raises(CloudriftError, match=says):
        document_from(json.dumps(raw).encode(), "x")


def test_a_wrong_value_in_a_newer_file_is_named_by_its_place(newer):
    _, raw, _ = newer
    raw["loop"]["layers"][1]["pan"] = 7
    with pytest.raises(CloudriftError, match=r"loop.layers\[1\]: layer l2: pan is 7"):
        document_from(json.dumps(raw).encode(), "x")


def test_no_more_is_set_aside_than_any_program_writes(newer):
    _, raw, _ = newer
    raw["loop"] |= {f"x{i}": i for i in range(MOST)}
    with pytest.raises(CloudriftError, match="more than 10000 unknown fields"):
        document_from(json.dumps(raw).encode(), "x")


class Dot(msgspec.Struct, frozen=True, tag_field="kind", tag="dot"):
    x: int = 0


class Bar(msgspec.Struct, frozen=True, tag_field="kind", tag="bar"):
    height: int = 0


class Shapes(msgspec.Struct, frozen=True):
    shapes: tuple[Dot | Bar, ...] = ()


def test_fields_are_known_by_the_kind_of_what_they_are_in():
    raw = {"shapes": [{"kind": "bar", "height": 2, "x": 1}, {"kind": "dot", "x": 1, "height": 2}]}
    known, aside = taken_apart(raw, Shapes)
    assert known == {"shapes": [{"kind": "bar", "height": 2}, {"kind": "dot", "x": 1}]}
    assert [(a.at, a.name) for a in aside] == [
        (("shapes", "#0"), "x"),
        (("shapes", "#1"), "height"),
    ]


def test_a_document_without_sections_is_its_loop(small_loop):
    document = Document.of(small_loop)
    assert section_loop(document) is small_loop
    assert document.with_loop(small_loop) is document
    assert document.with_loop(replace(small_loop, tempo=60.0)).loop.tempo == 60
    assert Document.of(document) is document
    with pytest.raises(CloudriftError, match="that section no longer exists"):
        section_loop(document, "s1")
    assert document_from(json.dumps(text_of(document)).encode(), "x") == document


# --- sounds in an early design --------------------------------------------------------------------


def early(small_loop):
    """A loop with early designs in a layer, in a sound kept aside, in an own one and in a drum."""

    def pad(**more):
        return SoundUse(name="warm pad", version=1, **more)

    loop = layer_edits.set_layer(small_loop, "l1", name="Fog", level_db=-6.0)
    loop = layer_edits.set_source(loop, "l1", sound=pad(
        settings=(("attack_ms", 300.0), ("gone_ms", 3.0), ("width", 9000.0))))  # fmt: skip
    loop = layer_edits.set_source(loop, "l2", other=OtherSound(use=pad()))
    own = OwnSound(name="Mine", house="warm pad", version=2, settings=(("attack_ms", 80.0),))
    loop = layer_edits.set_source(loop, "l3", sound=SoundUse(name="Mine", own=own))
    hat = Stacked(use=SoundUse(name="open hat", version=1), level_db=-3.0)
    return replace(loop, bed=Bed(lanes=(Layer(id="b1", name="Hats", role="grain", group="bed",
                                              source=Hits(stack=(hat,))),)))  # fmt: skip


def test_layers_in_an_early_design_are_opened_in_todays_as_loud_as_before(small_loop, tmp_path):
    path, renewed = tmp_path / "a.cloudrift", []
    loop = early(small_loop)
    clips = ClipStore()
    made = Print(id="p1", name="Print 1", clip=clips.record(sine(220.0), 44_100),
                 recipe=Recipe(loop="x"))  # fmt: skip
    recipes = (RecipeLoop(content="x", loop=loop),)
    save(Document(loop=loop, prints=(made,), recipes=recipes), path, clips)
    document = load_document(path, renewed=renewed.extend)
    names = [loop.layer(x).name for x in ("l1", "l2", "l3", "b1")]
    assert renewed == names
    for found in (document.loop, document.recipes[0].loop):
        assert found.unknown == ()
        fog = found.layer("l1")
        assert fog.source.sound == SoundUse(name="warm pad", version=3,
                                            settings=(("attack_ms", 300.0),))  # fmt: skip
        assert fog.level_db == round(-6.0 + early_level_db("warm pad", 1), 1) != -6.0
        assert found.layer("l2").source.other.use.version == 3
        assert found.layer("l2").level_db == loop.layer("l2").level_db  # what is kept aside is not
        assert found.layer("l3").source.sound.own.version == 3
        assert found.layer("l3").source.sound.own.settings == (("attack_ms", 80.0),)
        (hat,) = found.layer("b1").source.stack
        assert hat.use.version == 2
        assert hat.level_db == -3.0 + early_level_db("open hat", 1) < -9
        assert found.layer("l4") == loop.layer("l4")
    again = []
    save(document, path, clips)
    assert load_document(path, renewed=again.extend) == document
    assert again == []


def test_an_own_sound_of_an_early_design_is_read_in_todays(tmp_path):
    own = OwnSound(name="Mine", house="warm pad", version=1, settings=(("attack_ms", 80.0),))
    path = save_own(own, ClipStore(), tmp_path)
    assert load_own(path) == replace(own, version=3)


def test_which_layers_play_a_newer_design_is_said_once_they_are_open(window, small_loop, tmp_path):
    path = tmp_path / "a.cloudrift"
    save(early(small_loop), path)
    opened(window, path)
    assert window.message.text() == (
        "a.cloudrift: Fog, Slow vault and 2 more now play today's design of the sound, as loud as "
        "before"
    )
    save(replace(early(small_loop), layers=early(small_loop).layers[:1], bed=None), path)
    opened(window, path)
    assert window.message.text() == (
        "a.cloudrift: Fog now plays today's design of the sound, as loud as before"
    )
