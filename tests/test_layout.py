"""Nothing overlaps, is squeezed or cut off: every stage, pane, size, empty and full."""

import itertools
import os
import subprocess
import sys

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QRect, QSize
from PyQt6.QtWidgets import (
    QAbstractButton,
    QAbstractScrollArea,
    QCheckBox,
    QComboBox,
    QHeaderView,
    QLabel,
    QScrollBar,
    QSizePolicy,
    QSplitterHandle,
    QTabBar,
    QWidget,
)

from cloudrift.audio.clips import ClipStore
from cloudrift.desktop.frame.notices import Notice
from cloudrift.desktop.frame.rail import IN_PANE, STAGES
from cloudrift.desktop.frame.rooms import FURNISHED
from cloudrift.desktop.frame.window import Window
from cloudrift.desktop.kit import look
from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.parts import Elided
from cloudrift.desktop.session.preferences import Preferences
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.stages.style.page import TABS
from cloudrift.loop.edits.arranging import arranging
from cloudrift.loop.edits.bed import beds
from cloudrift.loop.edits.chords.progression import put_row
from cloudrift.loop.edits.flip import cutting, flips
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.edits.layers.recordings import add_recording, laid_in
from cloudrift.loop.files.recovery import Shelter
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.history import History
from cloudrift.loop.model.recorded import Facts
from cloudrift.render import Engine
from cloudrift.style.beginnings import empty_loop
from cloudrift.theory import Key
from cloudrift.theory.symbols import parse_progression
from tests.conftest import FakeSpeaker, detach

OWN_OF_QT = (Notice, QScrollBar, QSplitterHandle, QTabBar, QHeaderView)
NEAR_PX = 2  # what may lie over something else
LEAST_TARGET_PX = 24


def shown_children(widget):
    """The widgets that are seen in a widget, but those that lie over it on purpose."""
    return [
        one
        for one in widget.children()
        if isinstance(one, QWidget)
        and one.isVisible()
        and not one.isWindow()
        and not isinstance(one, OWN_OF_QT)
        and not one.objectName().endswith(("container", "cornerbutton"))  # of a scroll area
        and not isinstance(widget, QComboBox)
    ]


def name_of(widget):
    """What a widget is called in a finding."""
    words = widget.accessibleName() or getattr(widget, "text", str)() or widget.objectName()
    return f"{type(widget).__name__} {words[:40]!r}"


def scrolls(widget):
    """Whether a widget is what a scroll area shows a part of."""
    area = widget.parent().parent() if widget.parent() is not None else None
    return isinstance(area, QAbstractScrollArea) and widget.parent() is area.viewport()


def least_of(widget):
    """How small a widget may be; where its policy says that any size will do, none."""
    hint = widget.minimumSizeHint()
    policy = widget.sizePolicy()
    if policy.horizontalPolicy() == QSizePolicy.Policy.Ignored:
        hint.setWidth(0)
    if policy.verticalPolicy() == QSizePolicy.Policy.Ignored:
        hint.setHeight(0)
    return hint.boundedTo(widget.maximumSize())


def cut_text(label):
    """What a line of text needs and has not got: nothing where it is all seen."""
    if isinstance(label, Elided) or not label.text():
        return ""
    has, hint = label.size(), label.sizeHint()
    if label.wordWrap():
        needs = QSize(label.minimumSizeHint().width(), label.heightForWidth(has.width()))
    else:
        needs = hint
    short = has.width() < needs.width() - 1 or has.height() < needs.height() - 1
    return f"{has.width()}x{has.height()} for {needs.width()}x{needs.height()}" if short else ""


def wrong_in(widget):
    """Return in sentences what overlaps, is squeezed, cut off or too small to press."""
    out = []
    children = shown_children(widget)
    for one, other in itertools.combinations(children, 2):
        over = one.geometry().intersected(other.geometry())
        if over.width() > NEAR_PX and over.height() > NEAR_PX:
            out.append(f"{name_of(one)} and {name_of(other)} overlap by {over.width()}x"
                       f"{over.height()} in {name_of(widget)}")  # fmt: skip
    for one in children:
        least, has = least_of(one), one.size()
        if has.width() < least.width() - 1 or has.height() < least.height() - 1:
            out.append(f"{name_of(one)} in {name_of(widget)} is {has.width()}x{has.height()}, "
                       f"needs {least.width()}x{least.height()}")  # fmt: skip
        room = QRect(QPoint(0, 0), widget.size())
        if not scrolls(one) and not room.contains(one.geometry()):
            out.append(f"{name_of(one)} lies outside {name_of(widget)}: {one.geometry()} in {room}")
        if isinstance(one, QLabel) and (cut := cut_text(one)):
            out.append(f"{name_of(one)} is cut: {cut}")
        pressed = isinstance(one, (QAbstractButton, FieldWidget, QComboBox, QCheckBox))
        if pressed and min(has.width(), has.height()) < LEAST_TARGET_PX:
            out.append(f"{name_of(one)} is {has.width()}x{has.height()}, too small to press")
        out += wrong_in(one)
    return out


# --- what is looked at ----------------------------------------------------------------------------

LONG = "Die Harmonie der fernen Küste bei Nacht, zweite Fassung"
OTHER = "Полярная ночь над гаванью и маяком"
SIZES = ((1024, 640), (1280, 720), (1366, 700), (1280, 800), (1920, 1080))
RULED = ((1024, 640), (1280, 800), (853, 533))  # where the pitch ruler is open as well
LARGE_TEXT = ((853, 533), (683, 427))  # 1280x800 and 1024x640 where all is drawn at 150 %


def crowded():
    """A document with 12 layers, 16 chords, 7 lanes, 9 sections, 24 pieces, and long names."""
    names = itertools.cycle((LONG[:40], OTHER, "Pad"))
    clips = ClipStore()
    rng = np.random.default_rng(3)
    noise = (0.1 * rng.standard_normal((2, 44_100 * 4))).astype(np.float32)
    loop = empty_loop(Key("F#", "minor"), 120.0, bars=8, title=LONG[:60])
    loop = put_row(loop, parse_progression("i VI iv7 V7 " * 4, loop.key))
    for _ in range(9):
        loop = layer_edits.add_layer(loop, "round sub", next(names))
    facts = Facts(name=OTHER, kind="loop", tempo=120.0, length_s=4.0)
    for _ in range(2):
        source = laid_in(loop, clips.record(noise, 44_100), facts)
        loop = add_recording(loop, source, next(names))
    flip_id = loop.layers[-1].id
    loop = flips.flip_recording(loop, flip_id)
    cuts = cutting.cuts_at(flips.flip_in(loop, flip_id), "equal", loop.metre, 24)
    loop = flips.with_flip(loop, flip_id, lambda flip: cutting.cut(flip, cuts))
    loop = layer_edits.add_note_layer(loop)
    for kind in ("cuts", "hall", "weathering", "equaliser", "compressor"):
        loop = line_edits.add_treatment(loop, None, kind)
        loop = line_edits.add_treatment(loop, loop.layers[0].id, kind)
    loop = layer_edits.group_layers(loop, [x.id for x in loop.layers[:3]], LONG[:40])
    for part in ("kick", "snare", "clap", "hats", "open hat", "rim", "low drum"):
        loop = beds.add_lane(loop, part)
    document = Document.of(loop)
    for at in range(9):
        document = arranging.add_section(document, f"{LONG[:24]} {at}")
    document = arranging.set_seam(document, document.arrangement.sections[1].id, fill=True)
    return document, clips


def states():
    """What the window is filled with: nothing, and far too much."""
    nothing = Document.of(empty_loop(Key("F#", "minor"), 120.0, bars=8, title="Nothing yet"))
    return {"empty": (nothing, ClipStore()), "crowded": crowded()}


@pytest.fixture(scope="module", params=["empty", "crowded"])
def filled(app, request, tmp_path_factory):
    """A window with nothing in it, or far too much: every room built, nothing rendered."""
    document, clips = states()[request.param]
    home = tmp_path_factory.mktemp("home")
    preferences = Preferences(home / "config")
    session = Session(document, None, FakeSpeaker(), shelter=Shelter(home / "state"),
                      engine=Engine(clips=clips), preferences=preferences)  # fmt: skip
    with look.once_built(app):
        window = Window(session)
    for room in FURNISHED:
        getattr(window, room)
    window.setUpdatesEnabled(False)  # it is laid out, not painted
    window.show()
    yield window
    session.document.history = History.of(session.loop)
    session.document.begun = False
    window.close()
    app.processEvents()
    detach(window, session)


def laid_out(app):
    """Let everything that was asked for find its place."""
    for _ in range(4):
        app.sendPostedEvents()
        app.processEvents()


def wrong_when_settled(app, widget):
    """What is wrong still when what came in while it was looked at has found its place, too."""
    laid_out(app)
    found = wrong_in(widget)
    if found:  # a sound that is rendered meanwhile may have brought other words
        laid_out(app)
        found = wrong_in(widget)
    return found


def views(window, *, every_pane):
    """Go to every view there is, and name each.

    What stands in the pane is as wide in every stage: ``every_pane`` tries that, too.
    """
    for at, stage in enumerate(STAGES):
        window.show_stage(at)
        for name in IN_PANE if every_pane or stage == "Layers" else IN_PANE[:1]:
            getattr(window, f"open_{name.lower()}")()
            for keys in (False, True):
                if keys:
                    window.open_keys()
                elif window.keys.isVisible():
                    window.keys.leave()
                yield f"{stage}, {name}{', keys' * keys}"
        window.keys.leave()
        window.open_inspector()
        yield from (f"{stage}, {one}" for one in inside(window, stage))
    window.begin_steps()
    yield "first steps"
    window.steps.hide()
    window.start_loop()
    for number in range(6):
        window.start.choose_source(number)
        yield f"start, {number}"
    window.start.choose_source(0)
    window.show_stage(0)
    window.open_style()
    for tab, _ in TABS:
        window.style_page.show_tab(tab)
        yield f"style, {tab}"
    window.show_stage(0)


def inside(window, stage):
    """Go to what a stage shows of its own, one after another."""
    loop = window.session.loop
    if stage == "Chords" and loop.chords:
        window.session.select(chord_id=loop.chords[-1].id)
        for page in window.chords.inspector.pages:
            window.chords.inspector.show_page(page)
            yield page
    elif stage == "Layers":
        for layer in loop.layers:
            window.session.select(layer_id=layer.id)
            yield layer.name
    elif stage == "Texture" and loop.line:
        for treatment in loop.line:
            window.session.select(line_of=None, treatment_id=treatment.id)
            yield treatment.kind
        window.texture.show_pair()
        yield "pair"
        window.texture.show_line()
    elif stage == "Groove" and loop.lanes:
        for page in ("hits", "lane", "bed"):
            window.groove.chosen.show_page(page)
            yield page
    elif stage == "Arrange" and window.arrange.columns.model:
        for at in range(3):
            window.arrange.columns.choose_seam(at)
            yield f"seam {at}"
        window.arrange.whole.open(on=True)
        yield "whole"
        window.arrange.whole.open(on=False)
    elif stage == "Deliver":
        for page in range(5):
            window.deliver.show_page(page)
            yield f"page {page}"


@pytest.mark.parametrize("size", [*SIZES, *LARGE_TEXT])
def test_nothing_overlaps_is_squeezed_or_cut_off(app, filled, size):
    filled.setMinimumSize(100, 100)
    filled.resize(*size)
    filled.session.show_ruler(on=size in RULED)
    found = []
    for view in views(filled, every_pane=size in SIZES[:2]):
        found += [f"{view}: {words}" for words in wrong_when_settled(app, filled.centralWidget())]
    assert filled.centralWidget().width() == size[0], "the window can't be so small"
    filled.session.show_ruler(on=False)
    assert not found, f"{len(found)} places\n" + "\n".join(found[:20])


@pytest.mark.parametrize(
    ("find", "put", "words"),
    [
        (lambda w: w.chords.threads, QRect(0, 0, 500, 400), "overlap"),
        (lambda w: w.chords.row_bar.put, QRect(300, 0, 20, 29), "needs"),
        (lambda w: w.chords.row_bar.typed, QRect(-9, 0, 200, 30), "outside"),
        (lambda w: w.rail.buttons["Shelf"], QRect(0, 500, 60, 20), "too small to press"),
        (lambda w: w.chords.inspector.under, QRect(13, 44, 10, 10), "is cut"),
    ],
    ids=["overlaps", "squeezed", "outside", "small", "cut"],
)
def test_what_is_wrong_is_seen(app, filled, find, put, words):
    filled.resize(1280, 800)
    filled.show_stage(0)
    filled.open_inspector()
    laid_out(app)
    assert wrong_in(filled.centralWidget()) == []
    spoilt = find(filled)
    was = spoilt.geometry()
    spoilt.setGeometry(put)
    found = wrong_in(filled.centralWidget())
    spoilt.setGeometry(was)
    assert any(words in one for one in found)


def test_at_twice_and_one_and_a_half_times_the_scale_it_is_the_same():
    """Qt draws all of it larger: tried in programs of their own, for Qt looks only once."""
    code = (
        "from tests import test_layout as t; from cloudrift.desktop.frame.app import make_app;"
        "app = make_app(); window, session = t.bare_window(app);"
        "found = t.found_at(app, window, {size}); print(found); import os, sys;"
        "sys.stdout.flush(); os._exit(bool(found))"
    )
    for scale, size in (("2", (1024, 640)), ("1.5", (853, 533))):
        env = os.environ | {"QT_SCALE_FACTOR": scale, "QT_QPA_PLATFORM": "offscreen"}
        made = subprocess.run([sys.executable, "-c", code.format(size=size)], env=env,
                              capture_output=True, text=True, timeout=120, check=False)  # fmt: skip
        assert made.returncode == 0, made.stdout[-3000:] + made.stderr[-1000:]


def bare_window(app):
    """A window with far too much in it, for a program of its own."""
    document, clips = crowded()
    session = Session(document, None, FakeSpeaker(), engine=Engine(clips=clips))
    with look.once_built(app):
        window = Window(session)
    for room in FURNISHED:
        getattr(window, room)
    window.show()
    return window, session


def found_at(app, window, size):
    """Return what is wrong in every stage at a size."""
    window.setMinimumSize(100, 100)
    window.resize(*size)
    out = []
    for at in range(len(STAGES)):
        window.show_stage(at)
        laid_out(app)
        out += wrong_in(window.centralWidget())
    return out
