"""Search as the trade speaks: a table of words with what they must find, and how they are read."""

from pathlib import Path

import pytest

from cloudrift.desktop.frame.menu_table import menu_table
from cloudrift.exchange import Wanted
from cloudrift.exchange.stand_in import StandIn
from cloudrift.exchange.words import alike
from cloudrift.ground.search import Entry, Index, likeness, synonyms, tokens
from cloudrift.sound import CATALOGUE, look_up
from cloudrift.style.marks.met import KINDS as MARKS
from cloudrift.style.marks.searching import find_marks
from cloudrift.texture import KINDS
from cloudrift.texture.finish_files import house_finishes
from cloudrift.texture.searching import find_finishes, find_treatments

TABLE = Path(__file__).with_name("search_words.txt")
ROWS = [
    [part.strip() for part in line.split("|")]
    for line in TABLE.read_text("utf-8").splitlines()
    if "|" in line and not line.startswith("#")
]
NAMES = {
    command.text.replace("&", "").partition("\t")[0]
    for menu in menu_table()
    for group in menu.groups
    for command in group
}


def found_commands(words):
    known = synonyms("cloudrift.desktop.frame")
    entries = (Entry(of=name, names=(name,), does=known.get(name, {}).get("does", ()))
               for name in sorted(NAMES))  # fmt: skip
    return [match.of for match in Index(entries).find(words)]


def found_recordings(words):
    """Which words of the offers that are found say what they are."""
    offers = StandIn(moods=None).search(Wanted(words=words), lambda: False)
    return [" ".join((one.offer.name, *one.offer.words)) for one in offers]


FIND = {
    "treatments": lambda words: [match.of.name for match in find_treatments(words)],
    "sounds": lambda words: [match.of.name for match in look_up(words)],
    "finishes": lambda words: [match.of.name for match in find_finishes(words, house_finishes())],
    "commands": found_commands,
    "marks": lambda words: [match.of.name for match in find_marks(words)],
    "recordings": found_recordings,
}


@pytest.mark.parametrize(("what", "words", "name", "place"), ROWS)
def test_words_of_the_trade_find_what_they_mean(what, words, name, place):
    found = FIND[what](words)[: int(place)]
    if what == "recordings":
        assert found and all(name in one for one in found), found
    else:
        assert name in found, found


def test_the_table_is_long_and_says_nothing_twice():
    assert len(ROWS) >= 250 and len({tuple(row[:2]) for row in ROWS}) == len(ROWS)


@pytest.mark.parametrize(
    ("package", "name", "known"),
    [
        ("cloudrift.texture", "synonyms.toml", set(KINDS)),
        ("cloudrift.sound", "synonyms.toml", set(CATALOGUE)),
        ("cloudrift.desktop.frame", "synonyms.toml", NAMES),
    ],
)
def test_every_synonym_is_of_something_and_everything_has_some(package, name, known):
    said = synonyms(package, name)
    assert set(said) <= known
    assert all(parts.get("does") for parts in said.values())
    if package != "cloudrift.desktop.frame":
        assert set(said) == known


def test_synonyms_of_finishes_and_marks_are_of_those_there_are():
    finishes = synonyms("cloudrift.texture", "finish_synonyms.toml")
    assert set(finishes) == {finish.name for finish in house_finishes()}
    assert set(synonyms("cloudrift.style.marks")) <= set(MARKS)


def test_what_a_thing_does_comes_before_what_its_text_mentions():
    names = FIND["treatments"]("crackle")
    assert names.index("weathering") < names.index("de-click")


def test_words_may_come_in_any_order_with_one_typing_error():
    assert likeness("reverb", "reverb") > likeness("revreb", "reverb") > 0
    assert likeness("rever", "reverb") > likeness("revreb", "reverb")
    assert not likeness("rvreeb", "reverb") and not likeness("bass", "pass")
    assert likeness("distorted", "distortion") > likeness("distprtion", "distortion")
    index = Index([Entry(of=1, names=("Low cut",)), Entry(of=2, names=("Cut",), text="low")])
    assert [match.of for match in index.find("cut low")] == [1, 2]
    assert [match.of for match in index.find("")] == [1, 2]
    assert index.find("cut high") == []


def test_the_words_that_found_it_are_shown_where_its_name_does_not_say_them():
    assert find_treatments("sidechain")[0].words == "sidechain"
    assert find_treatments("compressor")[0].words == ""
    assert look_up("church bell")[0].words == "church bell"


def test_filler_alone_is_looked_for_too():
    assert tokens("Low-pass, 12 dB!") == ("low", "pass", "12", "db")
    assert FIND["commands"]("add")[0].startswith("Add")
    assert FIND["treatments"]("add a reverb") == FIND["treatments"]("reverb")


def test_recordings_are_found_by_words_that_mean_the_same():
    assert {"voice", "vox", "singing"} <= set(alike("vocal")) and alike("zzz") == ("zzz",)
    assert set(alike("vocl")) == {"vocl"}  # too short for a typing error
    assert "voice" in alike("vocals") and "guitar" in alike("gutar")
