"""Spoilt files: those that once broke a reader, and that the tools which find such do find them."""

import gc
from pathlib import Path

import pytest

from cloudrift.ground.errors import MOST_WORDS
from tools import fuzz
from tools.hostile import MAKERS, hostile

# The numbers of files (``tools.hostile``) that made the readers of an earlier day fail: with a
# trace, after they had been taken, without end, or with words that nobody reads to the end.
FAILED = {
    "MIDI": (
        4,
        45,
        96,
        114,
        118,
        161,
        194,
        197,
        216,
        255,
        312,
        334,
        398,
        423,
        424,
        439,
        486,
        491,
        523,
        535,
        545,
        553,
        563,
        572,
        787,
        791,
        796,
    ),
    "style card": (
        20,
        21,
        37,
        52,
        75,
        83,
        87,
        198,
        204,
        213,
        323,
        334,
        359,
        379,
        394,
        434,
        489,
        502,
        512,
        536,
        564,
        612,
        629,
        677,
        726,
        727,
        765,
        768,
    ),
    "line": (269, 370, 400, 478, 595, 616, 716, 722, 780, 793),
    "finish": (30, 265, 299, 354, 423, 575, 598, 704),
    "audio": (88, 172, 234, 400, 607, 627, 630, 664, 688, 706, 724, 740),
    "recovery": (71, 131, 304, 320, 409, 523, 575, 724),
    "loop": (0, 6, 63, 87, 113, 150, 269, 307, 316, 325, 331, 358, 499, 509, 563, 582, 678, 727),
    "own sound": (0, 75, 160, 248, 304, 313, 335, 365, 423, 453, 520, 524, 571, 707, 791),
    "written": (69, 202, 256, 502, 539, 582),
}


@pytest.fixture(scope="module")
def bench():
    made = fuzz.Bench()
    gc.collect()
    gc.freeze()  # what other tests have left is looked through once, not for every file
    yield made
    gc.unfreeze()
    made.engine.close()


@pytest.mark.parametrize(
    ("reader", "number"), [(reader, number) for reader in FAILED for number in FAILED[reader]]
)
def test_what_once_failed_is_taken_or_refused_in_a_sentence(reader, number, bench, tmp_path):
    gc.collect()
    gc.disable()  # else what other tests have left is let go of at the bottom of a deep nesting
    try:
        result = fuzz.tried(reader, number, 1, tmp_path, bench)
    finally:
        gc.enable()
    assert result.outcome in ("taken", "refused"), result.message
    assert len(result.message) <= MOST_WORDS
    assert "\n" not in result.message
    assert (result.outcome == "refused") == bool(result.message)


def test_a_number_gives_the_same_file_again():
    for reader in MAKERS:
        assert hostile(reader, 7) == hostile(reader, 7)
        assert len({hostile(reader, n) for n in range(20)}) > 10
    assert set(MAKERS) == set(fuzz.READERS)


def boom(path: Path):
    raise KeyError("x")


def broken(path: Path):
    def use(_bench):
        raise ZeroDivisionError

    return use


def never(path: Path):
    while True:
        pass


@pytest.mark.parametrize(
    ("reader", "outcome"), [(boom, "traceback"), (broken, "broken"), (never, "hangs")]
)
def test_the_tool_finds_what_it_is_there_for(monkeypatch, reader, outcome, capsys):
    monkeypatch.setitem(fuzz.READERS, "written", reader)
    monkeypatch.setattr(fuzz, "HANGS_S", 1.0 if reader is never else 20.0)
    table = fuzz.Table(1)
    fuzz.run({"written": 2}, 1, table.add)
    assert table.outcomes["written"][outcome] == 2
    assert len(table.failures) == 2
    table.print()
    assert "| written | 2 | 0 | 0 |" in capsys.readouterr().out
