"""The command line with what nobody should type, over what already exists, onto a full disk."""

import importlib
import subprocess
import sys

import numpy as np
import pytest
import soundfile
from msgspec.structs import replace

from cloudrift.audio.sound_file import write_wav
from cloudrift.cli.terminal import say
from cloudrift.deliver import Order, deliver, kit_writer
from cloudrift.deliver.cells import csv_of
from cloudrift.deliver.kit import read_kit
from cloudrift.deliver.kit_progress import KitOrder
from cloudrift.deliver.kit_writer import write_kit
from cloudrift.deliver.rights import as_csv, rights_of
from cloudrift.exchange.folders import Listed, OwnFolders
from cloudrift.exchange.service import ExchangeError
from cloudrift.ground import CloudriftError
from cloudrift.ground.errors import WriteError
from cloudrift.ground.settings import Field
from cloudrift.loop.edits.arranging.arranging import add_section, copy_section
from cloudrift.loop.files.storage import load, load_document, save
from cloudrift.loop.model.credits import Credits, Person
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.hits import Hits, Pattern, Stacked
from cloudrift.loop.model.sections import Arrangement
from cloudrift.loop.model.sound_use import SoundUse
from tests.conftest import AtOnce, run, sine


@pytest.fixture
def folder(tmp_path, small_loop, monkeypatch):
    """A folder with a loop and a recording, in which commands are run."""
    save(small_loop, tmp_path / "ice.cloudrift")
    write_wav(tmp_path / "pier.wav", sine(220, 1.0), 44100, bits=24)
    monkeypatch.chdir(tmp_path)
    return tmp_path


ADD, FLIP = ("add", "ice.cloudrift", "pier.wav", "-o", "x"), ("flip", "pier.wav", "-o", "x.wav")
NOTE = ("note", "felt upright", "-o", "x.wav")
NEW = ("new", "--style", "Edda Fenn", "-o", "x")


@pytest.mark.parametrize(
    ("command", "option", "values"),
    [
        (ADD, "--tempo", ("nan", "inf", "0", "0.0001", "-3")), (ADD, "--at", ("nan", "-inf")),
        (ADD, "--shift", ("nan", "inf", "1e308")),
        (("exchange",), "--tempo", ("-1", "nan", "0")), (("exchange",), "--within", ("-5", "99")),
        (("exchange",), "--stretch", ("nan", "-1", "inf")),
        (FLIP, "--reversed", ("nan", "inf", "1e308", "-1")), (FLIP, "--scatter", ("nan", "101")),
        (FLIP, "--shift", ("nan", "inf", "1e308")), (FLIP, "--tempo", ("nan", "inf", "0")),
        (NOTE, "--length", ("nan", "inf", "0")), (NEW, "--tempo", ("nan", "inf", "1e308")),
        (("treat", "pier.wav", "--line", "x.toml", "-o", "x.wav"), "--tempo", ("nan", "inf")),
        (("check", "ice.cloudrift"), "--target", ("nan", "inf")),
        (("render", "ice.cloudrift", "-o", "out"), "--target", ("nan", "-inf")),
        (("bed", "ice.cloudrift", "-o", "x"), "--busy", ("nan", "101")),
    ],
)  # fmt: skip
def test_what_is_no_number_in_range_is_one_sentence_and_code_two(
    folder, capsys, command, option, values
):
    before = sorted(folder.iterdir())
    for value in values:
        assert run(*command, option, value) == 2, value
        said = capsys.readouterr().err
        assert said.startswith("cloudrift: ") and said.count("\n") == 1
    assert sorted(folder.iterdir()) == before


@pytest.mark.parametrize(
    ("command", "name"),
    [
        (("add", "ice.cloudrift", "pier.wav"), "ice.cloudrift"),
        (("add", "ice.cloudrift", "pier.wav"), "ice"),
        (("flip", "pier.wav"), "pier.wav"), (("flip", "pier.wav"), "pier"),
        (("print", "ice.cloudrift"), "pier.wav"), (("note", "felt upright"), "pier.wav"),
        (("credits", "ice.cloudrift", "--maker", "Tern & Tide"), "ice.cloudrift"),
        (("new", "--style", "Edda Fenn"), "ice.cloudrift"),
        (("rights", "ice.cloudrift"), "sheet.txt"), (("demo-file", "ice.cloudrift"), "pier.wav"),
        (("bed", "ice.cloudrift"), "ice"), (("arrange", "ice.cloudrift"), "ice"),
        (("exchange", "--fetch", "1"), "sheet.flac"),
    ],
)  # fmt: skip
def test_nothing_is_overwritten_without_a_word(folder, capsys, command, name):
    for sheet in ("sheet.txt", "sheet.flac"):
        (folder / sheet).write_text("mine")
    before = {path: path.read_bytes() for path in folder.iterdir()}
    assert run(*command, "-o", name) == 2
    assert "already exists" in capsys.readouterr().err
    assert {path: path.read_bytes() for path in folder.iterdir()} == before


def test_what_is_to_be_replaced_is_also_the_file_it_was_made_from(folder):
    assert run("credits", "ice.cloudrift", "--maker", "Tern & Tide", "-o", "ice", "--replace") == 0
    assert load_document(folder / "ice.cloudrift").credits.maker == "Tern & Tide"
    before = soundfile.read("pier.wav")[0]
    assert run("flip", "pier.wav", "--reverse", "all", "-o", "pier.wav", "--replace") == 0
    assert not np.array_equal(soundfile.read("pier.wav")[0][: len(before)], before)


@pytest.mark.parametrize("ending", ["wav", "flac", "ogg", "mp3"])
def test_the_ending_says_what_is_written(folder, ending):
    for command in (("flip", "pier.wav"), ("note", "felt upright", "--length", "0.2"),
                    ("print", "ice.cloudrift")):  # fmt: skip
        assert run(*command, "-o", f"out.{ending}", "--replace") == 0
        with soundfile.SoundFile(f"out.{ending}") as file:
            assert file.format == ending.upper()


def test_an_ending_of_nothing_that_can_be_written_is_refused(folder, capsys):
    before = sorted(folder.iterdir())
    for command in (("print", "ice.cloudrift", "-o", "p.xyz"), ("add", "ice.cloudrift", "pier.wav",
                    "-o", "p.wav"), ("rights", "ice.cloudrift", "-o", "r.doc"),
                    ("note", "felt upright", "-o", "n.aif"),
                    ("notes", "ice.cloudrift", "--midi", "n.wav")):  # fmt: skip
        assert run(*command) == 2
        assert "the ending says what is written" in capsys.readouterr().err
    assert sorted(folder.iterdir()) == before


def test_a_rights_sheet_is_of_one_form(folder, capsys):
    for ending, begins in (("html", "<!doctype html>"), ("csv", "what,name"), ("json", "{"),
                           ("txt", "Rights sheet: ")):  # fmt: skip
        assert run("rights", "ice.cloudrift", "-o", f"r.{ending}") == 0
        assert (folder / f"r.{ending}").read_text().startswith(begins)
    capsys.readouterr()
    for options in (("--json", "--csv"), ("--csv", "-o", "s.html"), ("--html", "--json")):
        assert run("rights", "ice.cloudrift", *options) == 2
        assert "in one form" in capsys.readouterr().err
    assert run("rights", "ice.cloudrift", "--csv", "-o", "s.csv") == 0


@pytest.mark.parametrize("command", [("sounds",), ("--help",), ("info", "ice.cloudrift"),
                                     ("rights", "ice.cloudrift")])  # fmt: skip
def test_a_full_device_is_said_and_has_code_one(folder, command):
    with open("/dev/full", "w") as full:
        done = subprocess.run([sys.executable, "-P", "-m", "cloudrift", *command], stdout=full,
                              stderr=subprocess.PIPE, text=True, check=False)  # fmt: skip
    assert done.returncode == 1
    assert done.stderr == "cloudrift: could not write what was asked for: No space left on device\n"


def test_a_phrase_that_cannot_be_written_has_code_one(folder, monkeypatch, capsys):
    def full(_from, to):
        raise OSError(28, "No space left on device", str(to))

    monkeypatch.setattr("cloudrift.cli.exchange.shutil.copyfile", full)
    assert run("exchange", "--fetch", "1", "-o", "a.flac") == 1
    assert "could not write a.flac: No space left on device" in capsys.readouterr().err


# --- links, locks, kits ---------------------------------------------------------------------------


def test_a_link_in_a_shared_folder_is_replaced_and_not_followed(folder, small_loop):
    victim = folder / "victim"
    victim.write_text("mine")
    order = Order(parts=("loop", "midi", "rights"))
    out = folder / "out"
    for path in deliver(small_loop, out, order):
        path.unlink()
        path.symlink_to(victim)
    for path in deliver(small_loop, out, order, number=1):
        assert path.is_file() and not path.is_symlink()
    assert victim.read_text() == "mine"
    link = folder / "link.wav"
    link.symlink_to(victim)
    assert run("note", "felt upright", "-o", link, "--replace") == 2
    assert victim.read_text() == "mine"


def test_a_loop_that_is_a_link_stays_one(folder, small_loop):
    link = folder / "link.cloudrift"
    link.symlink_to(folder / "ice.cloudrift")
    save(replace(small_loop, title="Through"), link)
    assert link.is_symlink() and load(folder / "ice.cloudrift").title == "Through"


def test_what_is_no_plain_file_is_never_replaced(folder, small_loop):
    (folder / "there.cloudrift").mkdir()
    with pytest.raises(CloudriftError, match="is not a plain file"):
        save(small_loop, folder / "there.cloudrift")


def test_a_kit_on_a_full_disk_has_no_sheets_of_loops_that_were_not_written(
    folder, small_loop, monkeypatch
):
    parcel = importlib.import_module("cloudrift.deliver.parcel")

    monkeypatch.setattr(kit_writer, "ProcessPoolExecutor", AtOnce)
    (folder / "kit").mkdir()
    for title in ("Ice Road", "Last Ferry North"):
        save(replace(small_loop, title=title), folder / "kit" / f"{title}.cloudrift")
    how = KitOrder(order=Order(parts=("loop", "midi", "rights")))
    write = parcel.write_sound

    def full(path, *given, **more):
        if "ice-road" in path.name:
            raise WriteError(f"could not write {path}: No space left on device")
        write(path, *given, **more)

    monkeypatch.setattr(parcel, "write_sound", full)
    made = write_kit(read_kit(folder / "kit"), folder / "out", how)
    assert len(made.problems) == 1 and "No space left" in made.problems[0]
    names = {path.name for path in (folder / "out").rglob("*") if path.is_file()}
    assert any("last-ferry" in name for name in names)
    assert not any("ice-road" in name for name in names)
    assert "Ice Road" not in (folder / "out" / "rights.txt").read_text()
    monkeypatch.setattr(parcel, "write_sound", lambda path, *_, **_more: full(path / "ice-road"))
    made = write_kit(read_kit(folder / "kit"), folder / "none", how)
    assert len(made.problems) == 2
    assert {one.name for one in (folder / "none").iterdir() if one.is_file()} == {"kit.json"}


# --- names from strangers -------------------------------------------------------------------------


NASTY = "a\tb\nc\x1b[31md\x00e\u202ef\u2029g"
CLEAN = "a b c\ufffd[31md\ufffde\ufffdf g"


def test_names_in_a_file_are_lines_that_can_be_shown(small_loop, tmp_path):
    layer = replace(small_loop.layers[0], name=NASTY)
    loop = replace(small_loop, title=NASTY, layers=(layer, *small_loop.layers[1:]))
    assert (loop.title, loop.layers[0].name) == (CLEAN, CLEAN)
    document = add_section(Document(loop=loop, credits=Credits(people=(Person(name=NASTY),))),
                           name=NASTY)  # fmt: skip
    save(document, tmp_path / "a.cloudrift")
    assert load_document(tmp_path / "a.cloudrift") == document
    assert document.arrangement.sections[0].name == document.credits.people[0].name == CLEAN
    lane = Hits(stack=(Stacked(use=SoundUse(name="low drum")),), plays=NASTY,
                patterns=(Pattern(name=NASTY),))  # fmt: skip
    with pytest.raises(CloudriftError, match="characters that can't be shown"):
        lane.check("a lane")


def test_the_terminal_gets_no_signs_that_move_it(capsys):
    say(NASTY)
    assert capsys.readouterr().out == f"{CLEAN}\n"
    assert str(CloudriftError(f"no {NASTY}")) == f"no {CLEAN}"


def test_no_cell_of_a_table_is_a_formula(small_loop):
    rows = csv_of([("=1+1", "+1", "-1", "@x", "\tx", "a=b", -1.5, 'say "x"')])
    assert rows == '\'=1+1,\'+1,\'-1,\'@x,\'\tx,a=b,-1.5,"say ""x"""\r\n'
    people = (Person(name="=HYPERLINK(1)", share=100.0),)
    sheet = rights_of(Document(loop=small_loop, credits=Credits(people=people)))
    assert "person,'=HYPERLINK(1)," in as_csv(sheet)


# --- documents and lists that are damaged ---------------------------------------------------------


def test_a_section_that_was_copied_from_nothing_is_said_on_reading(small_loop):
    document, copy = copy_section(add_section(Document.of(small_loop)), "s1")
    sections = document.arrangement.sections
    with pytest.raises(CloudriftError, match="copied from 's1', which does not exist"):
        Arrangement(sections=tuple(one for one in sections if one.id == copy))


def test_a_damaged_list_of_recordings_is_said(folder, monkeypatch):
    import sqlite3

    from cloudrift.exchange import folders

    monkeypatch.setattr(folders, "listen_for_list", lambda path: Listed(name=path))
    monkeypatch.setattr(folders, "ProcessPoolExecutor", AtOnce)
    found = OwnFolders(lambda: [folder], folder / "list.sqlite")
    found.index()
    assert (folder / "list.sqlite").stat().st_mode & 0o077 == 0
    for value in ("'fast'", "9e999"):
        with sqlite3.connect(folder / "list.sqlite") as base:
            base.execute(f"UPDATE files SET tempo = {value}")
        with pytest.raises(ExchangeError, match="delete it, it will be rebuilt"):
            found.like(str(folder / "pier.wav"))


def test_a_field_whose_ends_are_equal_is_where_it_begins():
    field = Field(name="bar", label="In bar", default=1, low=1, high=1)
    assert field.to_share(1) == 0.0
    assert field.from_share(0.7) == 1.0
