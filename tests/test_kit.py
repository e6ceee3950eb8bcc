"""Kits: read, looked at, written on all cores, stopped and gone on with, their sheets."""

import csv
import io
import json
import os
import shutil
import subprocess
import sys
import time
import zipfile
from dataclasses import replace as altered
from html.parser import HTMLParser
from pathlib import Path

import pytest
import soundfile
from click.testing import CliRunner
from msgspec.structs import replace
from PyQt6.QtCore import Qt

from cloudrift.cli.main import commands
from cloudrift.deliver import Order
from cloudrift.deliver.kit import (
    ALIKE,
    Cover,
    fit_lufs,
    in_order,
    likeness,
    look_at,
    near_duplicates,
    read_kit,
    write_cover,
)
from cloudrift.deliver.kit_progress import DONE, KitOrder, numbers_of, orders_of
from cloudrift.deliver.kit_sheet import COLUMNS, strata_svg
from cloudrift.deliver.kit_writer import write_kit
from cloudrift.ground.cancel import Cancelled
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.files.storage import save
from cloudrift.loop.model.credits import Credits, Person
from cloudrift.loop.model.document import Document
from cloudrift.style import find_card, sketch
from cloudrift.theory import Key
from tests.conftest import AtOnce, make_small_loop
from tests.hands import settled

pytestmark = pytest.mark.usefixtures("remembering")  # sound is a means here

SMALL = replace(make_small_loop(), kit="Dome Show")
PEOPLE = Credits(people=(Person(name="Tern", share=100.0),), maker="Tern & Tide Audio")
PLAIN = KitOrder(order=Order(parts=("loop", "midi"), bits=16))


def one_layer(title, tempo=140.0):
    """A loop that is soon rendered."""
    loop = replace(SMALL, title=title, tempo=tempo, layers=SMALL.layers[3:], line=())
    return Document(loop=loop, credits=PEOPLE)


@pytest.fixture
def folder(tmp_path):
    """Four loops, two of them of one title, and a file that is none."""
    made = tmp_path / "Dome Show"
    made.mkdir()
    for name, document in {
        "a": one_layer("Ice Road"), "b": one_layer("Last Ferry", 120.0),
        "c": one_layer("Ice Road", 140.0), "d": one_layer("x" * 150, 99.0),
    }.items():  # fmt: skip
        save(document, made / f"{name}.cloudrift")
    return made


def write_here(monkeypatch):
    """Kits are written in this process; how several do it is seen in the tests without."""
    monkeypatch.setattr("cloudrift.deliver.kit_writer.ProcessPoolExecutor", AtOnce)


@pytest.fixture
def at_once(monkeypatch):
    write_here(monkeypatch)


def test_what_was_cut_short_since_and_what_has_another_number_now_is_made_again(
    folder, tmp_path, at_once
):
    """Two loops of one title and tempo: which has which number follows their order."""
    for name in "bcd":
        (folder / f"{name}.cloudrift").unlink()
    out = tmp_path / "out"
    write_kit(read_kit(folder), out, PLAIN)
    (wav,) = (out / "loops").glob("*.wav")
    body = wav.read_bytes()
    wav.write_bytes(body[:1000])
    write_kit(read_kit(folder), out, PLAIN)
    assert wav.read_bytes() == body
    save(one_layer("Ice Road"), folder / "0.cloudrift")  # it comes before the other
    kit = read_kit(folder)
    assert [path.stem for path in kit.files] == ["0", "a"]
    write_kit(kit, out, PLAIN)
    assert len(list((out / "loops").glob("*.wav"))) == 2
    assert [one["number"] for one in json.loads((out / DONE).read_bytes())["loops"]] == [1, 2]


def test_loops_of_one_name_get_numbers_of_their_own_in_every_format(folder):
    for name in ("e", "f"):
        save(one_layer("Ice Road"), folder / f"{name}.cloudrift")
    for formats in (("wav",), ("wav", "flac")):
        numbers = numbers_of(read_kit(folder), altered(PLAIN, formats=formats))
        found = {Path(name).stem: number for name, number in numbers.items()}
        assert [found[one] for one in "acef"] == [1, 2, 3, 4]
        assert found["b"] == found["d"] == 1


def files_in(out):
    return {str(path.relative_to(out)): path.read_bytes() for path in sorted(out.rglob("*"))
            if path.is_file()}  # fmt: skip


# --- reading --------------------------------------------------------------------------------------


def test_a_kit_is_a_folder_in_the_order_of_its_cover(folder):
    kit = read_kit(folder)
    assert kit.name == "Dome Show" and [x.stem for x in kit.files] == ["a", "b", "c", "d"]
    cover = Cover(name="Dome Show, winter", maker="Tern & Tide Audio", about="For a dome.\n\nSlow.",
                  order=("c.cloudrift", "gone.cloudrift", "a.cloudrift"))  # fmt: skip
    kit = write_cover(kit, cover)
    assert [x.stem for x in kit.files] == ["c", "a", "b", "d"] and kit.cover == cover
    assert read_kit(folder).name == "Dome Show, winter"
    turned = in_order(kit, kit.files[::-1])
    assert [x.stem for x in read_kit(folder).files] == ["d", "b", "a", "c"]
    assert turned.cover.about == cover.about


@pytest.mark.parametrize(("text", "says"), [
    ("name = [", "left out"), ("name = 3", "left out"), ("maker = '" + "x" * 300 + "'", "author"),
])  # fmt: skip
def test_a_broken_cover_is_passed_by_in_words(folder, text, says):
    (folder / "kit.toml").write_text(text)
    kit = read_kit(folder)
    assert len(kit.files) == 4 and kit.name == "Dome Show"
    assert len(kit.problems) == 1 and says in kit.problems[0] and "\n" not in kit.problems[0]


def test_what_is_no_kit_is_said(tmp_path, folder):
    with pytest.raises(CloudriftError, match="is not a folder"):
        read_kit(tmp_path / "none")
    (tmp_path / "empty").mkdir()
    with pytest.raises(CloudriftError, match="no loop file in"):
        read_kit(tmp_path / "empty")


# --- looking --------------------------------------------------------------------------------------


def test_a_loop_is_looked_at_with_what_is_to_fix(folder):
    found = look_at(folder / "a.cloudrift")
    assert (found.title, found.key, found.tempo, found.bars) == ("Ice Road", "F♯ minor", 140.0, 2)
    assert found.seconds == pytest.approx(2 * 4 * 60 / 140, abs=0.01) and found.lufs < -10
    assert found.must == 0 and len(found.bands) == 1 and found.asked > 20
    (folder / "e.cloudrift").write_text("nothing")
    broken = look_at(folder / "e.cloudrift")
    assert "e.cloudrift" in broken.problem and broken.title == "e"
    silent = one_layer("Still").loop
    silent = layer_edits.set_layer(silent, silent.layers[0].id, mute=True)
    save(Document(loop=silent), folder / "f.cloudrift")
    assert look_at(folder / "f.cloudrift").words == ("nothing plays",)
    assert fit_lufs([found, broken]) == pytest.approx(found.lufs, abs=0.06)
    assert fit_lufs([broken]) == -16.0


def test_near_duplicates_are_found_in_any_key_and_others_are_not():
    moved = loop_edits.set_key(replace(SMALL, title="Twin"), Key("A", "minor"))
    assert likeness(SMALL, SMALL) == pytest.approx(1.0)
    assert likeness(SMALL, moved) > ALIKE
    other = sketch(find_card("Edda Fenn"), Key("F#", "minor"), 88.0, 2, bars=2)
    assert likeness(SMALL, other) < 0.4
    drawn = sketch(find_card("Marlow Quist"), Key("F#", "minor"), 140.0, 2, bars=2)
    assert likeness(SMALL, drawn) < ALIKE
    pairs = near_duplicates([("a", SMALL), ("b", other), ("c", moved), ("d", drawn)])
    assert [(x, y) for x, y, _ in pairs] == [("a", "c")]


# --- writing --------------------------------------------------------------------------------------


def test_a_kit_is_written_with_its_sheets_and_a_zip(folder, tmp_path):
    out = tmp_path / "out"
    how = KitOrder(order=Order(parts=("loop", "midi", "sounds"), bits=16), formats=("wav", "ogg"),
                   demo=True, zipped=True)  # fmt: skip
    moved = []
    made = write_kit(read_kit(folder), out, how, progress=lambda *x: moved.append(x))
    assert moved[0][0] == 0 and moved[-1][:2] == (6, 6) and made.problems == ()
    names = set(files_in(out))
    assert {"loops/ice-road_140bpm_fsharp-minor.wav", "loops/ice-road_140bpm_fsharp-minor.ogg",
            "loops/ice-road_140bpm_fsharp-minor_2.wav", "midi/last-ferry_120bpm_fsharp-minor.mid",
            "demo files/last-ferry_120bpm_fsharp-minor_demo.wav"} <= names  # fmt: skip
    assert not any(name.endswith(".mid") and "ogg" in name for name in names)
    shots = [name for name in names if name.startswith("one-shots/")]
    assert len(shots) == 2  # one sound, in both formats, although four loops use it
    assert {"kit.txt", "kit.csv", "kit.html", "rights.txt", "rights.html"} <= names
    assert all(path.is_file() for path in made.paths)
    text = (out / "kit.txt").read_text()
    assert text.startswith("Dome Show\n4 loops; royalty-free") and "2. Last Ferry" in text
    rows = list(csv.DictReader(io.StringIO((out / "kit.csv").read_text())))
    assert [row["title"] for row in rows][:3] == ["Ice Road", "Last Ferry", "Ice Road"]
    assert rows[1]["tempo BPM"] == "120.0" and rows[0]["licence"] == "royalty-free"
    assert tuple(rows[0]) == COLUMNS
    with zipfile.ZipFile(tmp_path / "out.zip") as archive:
        assert archive.testzip() is None
        assert {one.removeprefix("Dome Show/") for one in archive.namelist()} == {
            str(path.relative_to(out)) for path in made.paths if path.suffix != ".zip"}  # fmt: skip
    longest = max(name.split("/")[-1] for name in names if "xxx" in name)
    assert len(longest) < 230


def test_what_is_there_already_is_not_made_again_and_the_end_is_the_same(
    folder, tmp_path, monkeypatch
):
    whole, parts = tmp_path / "whole", tmp_path / "parts"
    kit = read_kit(folder)
    with monkeypatch.context() as meanwhile:
        write_here(meanwhile)
        write_kit(kit, whole, PLAIN)
    seen = []

    def stop_after_one():
        return len(seen) > 1

    with pytest.raises(Cancelled):
        write_kit(kit, parts, PLAIN, cancelled=stop_after_one,
                  progress=lambda done, _of, what: seen.append(what) if what else None)  # fmt: skip
    done = json.loads((parts / DONE).read_bytes())["loops"]
    assert 1 <= len(done) < 4 and not (parts / "kit.txt").exists()
    listed = {name for one in done for name, _size in one["files"]}
    assert listed <= set(files_in(parts))
    before = {name: (parts / name).stat().st_mtime_ns for name in listed}
    write_here(monkeypatch)
    write_kit(kit, parts, PLAIN)
    assert {name: (parts / name).stat().st_mtime_ns for name in listed} == before
    assert files_in(parts) == files_in(whole)
    # A loop that was changed, or a file that is gone, is made again.
    save(one_layer("Ice Road", 141.0), folder / "a.cloudrift")
    (parts / "loops" / "last-ferry_120bpm_fsharp-minor.wav").unlink()
    again = write_kit(read_kit(folder), parts, PLAIN)
    assert (parts / "loops" / "ice-road_141bpm_fsharp-minor.wav") in again.paths
    assert (parts / "loops" / "last-ferry_120bpm_fsharp-minor.wav").exists()
    # What is of nothing any more goes; what is not the kit's stays.
    (parts / "loops" / "mine.txt").write_text("x")
    (folder / "d.cloudrift").unlink()
    write_kit(read_kit(folder), parts, altered(PLAIN, order=Order(parts=("loop",), bits=16)))
    left = {name for name in files_in(parts) if "/" in name and not name.startswith(".")}
    assert left == {"loops/mine.txt", "loops/ice-road_141bpm_fsharp-minor.wav",
                    "loops/ice-road_140bpm_fsharp-minor.wav",
                    "loops/last-ferry_120bpm_fsharp-minor.wav"}  # fmt: skip


def test_a_stop_is_heard_within_a_second(folder, tmp_path):
    for letter in "efgh":
        save(Document(loop=replace(SMALL, title=f"Loop {letter}", bars=2), credits=PEOPLE),
             folder / f"{letter}.cloudrift")  # fmt: skip
    started = []

    def stopped():
        return bool(started) and time.monotonic() > started[0]

    def moved(done, _of, _what):
        if done == 2 and not started:
            started.append(time.monotonic())

    with pytest.raises(Cancelled):
        write_kit(read_kit(folder), tmp_path / "out", PLAIN, progress=moved, cancelled=stopped)
    assert time.monotonic() - started[0] < 8  # on a machine with other work; see the bench
    assert not list((tmp_path / "out").rglob("*.part"))


def test_what_cannot_be_written_is_told_of_and_the_rest_is(folder, tmp_path, at_once):
    (folder / "b.cloudrift").write_bytes(b"PK nonsense")
    silent = one_layer("Still").loop
    silent = layer_edits.set_layer(silent, silent.layers[0].id, mute=True)
    save(Document(loop=silent), folder / "c.cloudrift")
    made = write_kit(read_kit(folder), tmp_path / "out", PLAIN)
    assert len(made.problems) == 2
    assert any("b.cloudrift" in one for one in made.problems)
    assert any("nothing plays" in one for one in made.problems)
    names = set(files_in(tmp_path / "out"))
    assert sum(name.startswith("loops/") for name in names) == 2
    assert "b.cloudrift" in (tmp_path / "out" / "kit.txt").read_text()


def test_a_disk_that_is_full_in_the_middle_leaves_whole_files(folder, tmp_path):
    """Nothing larger than 620 kB can be written: the slower loops are more than that."""
    code = (
        "import resource, signal\n"
        "from pathlib import Path\n"
        "from tests.test_kit import PLAIN\n"
        "from cloudrift.deliver.kit import read_kit\n"
        "from cloudrift.deliver.kit_writer import write_kit\n"
        "if __name__ == '__main__':\n"
        "    resource.setrlimit(resource.RLIMIT_FSIZE, (620_000, 620_000))\n"
        f"    made = write_kit(read_kit(Path({str(folder)!r})), Path({str(tmp_path / 'out')!r}),"
        " PLAIN)\n"
        "    print(len(made.problems), *made.problems, sep='|')\n"
    )
    script = tmp_path / "full.py"
    script.write_text(code)
    run = subprocess.run([sys.executable, str(script)], capture_output=True, text=True, check=False,
                         timeout=200, env={**os.environ, "PYTHONPATH": os.getcwd()})  # fmt: skip
    assert run.returncode == 0, run.stderr
    count, *problems = run.stdout.strip().split("|")
    assert count == "2" and all("could not write" in one for one in problems), run.stdout
    whole = list((tmp_path / "out" / "loops").iterdir())
    assert len(whole) == 2
    for path in whole:
        assert soundfile.info(path).frames > 0
    assert (tmp_path / "out" / "kit.txt").exists()


def test_folders_that_hold_something_else_are_left_alone(folder, tmp_path):
    out = tmp_path / "out"
    out.mkdir()
    (out / "mine.txt").write_text("x")
    kit = read_kit(folder)
    with pytest.raises(CloudriftError, match=r"contains something else \(mine.txt\)"):
        write_kit(kit, out, PLAIN)
    assert files_in(out) == {"mine.txt": b"x"}
    with pytest.raises(CloudriftError, match="own folder"):
        write_kit(kit, folder, PLAIN)
    (out / DONE).write_text("{}")
    with pytest.raises(CloudriftError, match="does not say what is in"):
        write_kit(kit, out, PLAIN)
    (tmp_path / "file").write_text("x")
    with pytest.raises(CloudriftError, match="could not make the folder"):
        write_kit(kit, tmp_path / "file" / "in", PLAIN)


def test_an_order_for_each_format_writes_what_is_no_sound_once():
    how = KitOrder(order=Order(parts=("loop", "midi", "rights", "sounds"), bits=32),
                   formats=("wav", "flac"))  # fmt: skip
    one, other = orders_of(how)
    assert one.parts == ("loop", "midi", "rights") and other.parts == ("loop",)
    assert (one.bits, other.bits) == (32, 24)
    assert how.mark != altered(how, demo=True).mark


# --- the page -------------------------------------------------------------------------------------


class Page(HTMLParser):
    def __init__(self, text):
        super().__init__()
        self.tags, self.outside = [], []
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        self.tags.append((tag, dict(attrs)))
        for name, value in attrs:
            if name in ("src", "href") and value and "://" in value:
                self.outside.append(value)


def test_the_page_needs_nothing_else_and_shows_each_loop(folder, tmp_path, at_once):
    kit = write_cover(read_kit(folder), Cover(about="Slow <loops> & wide."))
    write_kit(kit, tmp_path / "out", PLAIN)
    text = (tmp_path / "out" / "kit.html").read_text()
    page = Page(text)
    assert page.outside == [] and "Slow &lt;loops&gt; &amp; wide." in text
    players = [attrs for tag, attrs in page.tags if tag == "audio"]
    assert len(players) == 4 and all(x["src"].startswith("data:audio/ogg;base64,T2dnUw")
                                     for x in players)  # fmt: skip
    assert sum(tag == "svg" for tag, _ in page.tags) == 4
    links = [attrs["href"] for tag, attrs in page.tags if tag == "a"]
    assert all((tmp_path / "out" / link).is_file() for link in links) and len(links) == 4


def test_a_picture_of_strata_has_an_axis(folder):
    svg = strata_svg(look_at(folder / "a.cloudrift"))
    assert svg.count("<polygon") == 1 and svg.count(" s</text>") == 5
    assert ">0.0 s</text>" in svg and ">3.4 s</text>" in svg


def test_the_page_opens_in_a_browser(folder, tmp_path, at_once):
    browser = shutil.which("chromium") or shutil.which("chromium-browser")
    if browser is None:
        pytest.skip("no browser is installed here")
    write_kit(read_kit(folder), tmp_path / "out", PLAIN)
    picture = tmp_path / "kit.png"
    run = subprocess.run(
        [browser, "--headless", "--no-sandbox", "--disable-gpu", f"--screenshot={picture}",
         "--window-size=1100,1600", (tmp_path / "out" / "kit.html").as_uri()],
        capture_output=True, timeout=120, check=False,
        env={"HOME": str(tmp_path), "PATH": "/usr/bin"},
    )  # fmt: skip
    assert run.returncode == 0 and picture.stat().st_size > 20_000


# --- at the command line --------------------------------------------------------------------------


def test_a_kit_at_the_command_line(folder, tmp_path, at_once):
    run = CliRunner().invoke(commands, [
        "kit", str(folder), "-o", str(tmp_path / "out"), "--preset", "loop alone", "--formats",
        "flac", "--target", "-18"])  # fmt: skip
    assert run.exit_code == 0, run.output
    assert sum(line.endswith(".flac") for line in run.stdout.splitlines()) == 4
    (folder / "b.cloudrift").write_text("x")
    run = CliRunner().invoke(commands, ["kit", str(folder), "-o", str(tmp_path / "out"),
                                        "--preset", "loop alone", "--formats", "flac",
                                        "--target", "-18"])  # fmt: skip
    assert run.exit_code == 1 and "b.cloudrift" in run.stderr


def test_ctrl_c_leaves_whole_files_and_says_one_line(folder, tmp_path):
    code = (
        "import os, signal, sys, threading, time\n"
        "from cloudrift.cli.main import main\n"
        "threading.Thread(target=lambda: (time.sleep(2.5), os.kill(os.getpid(), signal.SIGINT)),"
        " daemon=True).start()\n"
        f"sys.exit(main(['kit', {str(folder)!r}, '-o', {str(tmp_path / 'out')!r}, '--preset',"
        " 'everything']))"
    )
    run = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=120,
                         check=False)  # fmt: skip
    assert "Traceback" not in run.stderr, run.stderr
    assert not list((tmp_path / "out").rglob(".*.part"))


# --- in the window --------------------------------------------------------------------------------


@pytest.fixture
def page(qtbot, window):
    from cloudrift.desktop.stages.deliver.stage import KIT

    window.choose_stage(6)
    settled(qtbot, window.session)
    window.deliver.show_page(KIT)
    return window.deliver.kit


def taken(qtbot, page, folder):
    page.take(folder)
    qtbot.waitUntil(lambda: len(page.looked) == len(page.kit.files), timeout=120_000)
    qtbot.waitUntil(lambda: "Looking" not in page.says.text(), timeout=20_000)


def test_a_folder_is_looked_at_heard_and_put_in_order(qtbot, window, page, folder):
    assert not page.write.isVisible() and not page.table.isVisible()
    assert [tile.text() for tile in page.lead.tiles] == [
        "Choose a folder…",
        "The demo kit, Dome Show",
    ]
    (folder / "e.cloudrift").write_text("nothing")
    taken(qtbot, page, folder)
    table = page.table
    assert [table.item(row, 0).text() for row in range(5)][:2] == ["Ice Road", "Last Ferry"]
    assert table.item(0, 2).text() == "F♯ minor" and table.item(4, 2).text() == "can't be read"
    assert len(table.cellWidget(0, 1).bands) == 1
    qtbot.waitUntil(lambda: bool(page._alike), timeout=20_000)
    assert page._alike[0][:2] == ("a.cloudrift", "c.cloudrift")
    assert any("Very similar to c.cloudrift" in text for text in said(page))
    session = window.session
    qtbot.mouseClick(page.hear, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: page.heard.on, timeout=60_000)
    assert session.hearing.heard_words == "playing a, of the kit" and session.player.playing
    assert page.hear.text() == "Stop"
    first = page.heard._gain
    table.selectRow(1)
    qtbot.mouseClick(page.hear, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: page.heard.on and page.heard._gain != first, timeout=60_000)
    qtbot.mouseClick(page.later, Qt.MouseButton.LeftButton)
    assert [x.stem for x in read_kit(folder).files] == ["a", "c", "b", "d", "e"]
    assert table.file.stem == "b" and table.currentRow() == 2
    session.apply("tempo", lambda loop: loop_edits.set_tempo(loop, 99.0))
    assert not page.heard.on
    page.name.setText("Dome Show, winter")
    page.name.editingFinished.emit()
    assert read_kit(folder).name == "Dome Show, winter"
    table.selectRow(4)
    assert any("e.cloudrift" in text for text in said(page))
    opened = []
    page.open_wanted.disconnect()
    page.open_wanted.connect(opened.append)
    table.selectRow(0)
    qtbot.mouseClick(page.open, Qt.MouseButton.LeftButton)
    assert opened == [folder / "a.cloudrift"]


def said(page):
    at = page._words
    return [at.itemAt(i).widget().text() for i in range(at.count()) if at.itemAt(i).widget()]


def test_a_kit_is_written_from_the_window(qtbot, window, page, folder, tmp_path):
    taken(qtbot, page, folder)
    page.preset.setCurrentText("Loop alone")
    page.level.setCurrentIndex(1)
    assert page.how.order.target_lufs == fit_lufs(page.looked.values())
    page.formats["wav"].setChecked(False)
    page.write_to(tmp_path / "none")
    assert "choose a format" in page.result.text().lower()
    page.formats["flac"].setChecked(True)
    page.zipped.setChecked(True)
    page.write_to(tmp_path / "out")
    assert not page.write.isEnabled() and page.cancel.isVisible()
    qtbot.waitUntil(lambda: page.result.text().startswith("Exported "), timeout=120_000)
    assert page.write.isEnabled() and (tmp_path / "out.zip").exists()
    assert len(list((tmp_path / "out" / "loops").iterdir())) == 4
    page.write_to(folder)
    qtbot.waitUntil(lambda: "own folder" in page.result.text(), timeout=20_000)
    assert page.result.objectName() == "signal"


def test_what_is_no_kit_is_said_and_a_stop_keeps_the_rest(qtbot, window, page, folder, tmp_path):
    page.take(tmp_path / "nowhere")
    assert "is not a folder" in page.says.text() and page.kit is None
    taken(qtbot, page, folder)
    page.write_to(tmp_path / "out")
    qtbot.mouseClick(page.cancel, Qt.MouseButton.LeftButton)
    assert "to resume" in page.result.text() and page.write.isEnabled()


def test_a_file_is_made_when_it_is_dropped(qtbot, window, page):
    from cloudrift.desktop.kit.drag_out import Draggable

    window.deliver.show_page(0)
    files = window.deliver.files
    names = files.list.rows
    assert len(names) == 7
    mime = names[0].findChildren(Draggable)[0].mime()
    assert mime.hasUrls() and mime.paths is None  # nothing is made before it is dropped
    (url,) = mime.urls()
    path = Path(url.toLocalFile())
    assert path.name == names[0].text() and path.is_file()
    assert mime.urls() == [url]
    midi = names[-1].findChildren(Draggable)[0].mime().urls()[0]
    assert Path(midi.toLocalFile()).read_bytes()[:4] == b"MThd"
