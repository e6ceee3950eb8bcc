"""Chords found for a line: a tune, a bass, or both; roots for a bass where there are no chords."""

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace
from PyQt6.QtCore import Qt

from cloudrift.desktop.frame.proposals_sheet import ProposalsSheet
from cloudrift.ground import CloudriftError
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.chords.progression import put_row
from cloudrift.loop.edits.layers import layer_edits, own_notes
from cloudrift.loop.edits.layers.from_notes import proposed_chords, put_roots, roots_of_what_plays
from cloudrift.loop.sounding import notes_of
from cloudrift.notes.harmonise import harmonised
from cloudrift.notes.note import Note
from cloudrift.style.beginnings import empty_loop
from cloudrift.theory import Key, parse_progression, read_chord
from tests.hands import rest_on, settled
from tests.test_notes import keys

BAR = 3840
C, A_MINOR = Key("C", "major"), Key("A", "minor")


def line(*pitches, each=960, velocity=90):
    return tuple(Note(start_tick=each * i, length_ticks=each - 60, pitch=p, velocity=velocity)
                 for i, p in enumerate(pitches))  # fmt: skip


def names(row, key):
    out = []
    for chord in row:
        voices = tuple(
            48 + (t - 48) % 12 + (0 if i == 0 else 12) for i, t in enumerate(chord.tones)
        )
        out.append(read_chord(voices, key, root_hint=chord.tones[0]).name)
    return out


@pytest.mark.parametrize(
    ("tune", "bass", "key", "chords"),
    [
        # A tune that spells its chords out.
        ((60, 64, 67, 64, 65, 69, 72, 69, 67, 71, 74, 71, 72, 67, 64, 60), (), C,
         ["C", "F", "G", "C"]),
        # A bass on roots; on a third, which then stands below; on a minor key's dominant.
        ((), (36,) * 4 + (33,) * 4 + (41,) * 4 + (43,) * 4, C, ["C", "Am", "F", "G"]),
        ((72, 76, 74, 71), (45,) * 4 + (40,) * 4, A_MINOR, None),
        # Both: the tune alone would say C, the bass makes it Am.
        ((72, 76, 72, 76), (33,) * 4, C, ["Am"]),
        # The raised seventh of a minor key asks for its dominant.
        ((69, 72, 76, 72, 68, 71, 76, 71), (), A_MINOR, ["Am", "E"]),
    ],
)  # fmt: skip
def test_chords_go_with_a_line(tune, bass, key, chords):
    ticks = 960 * max(len(tune), len(bass))
    row = harmonised(line(*tune), line(*bass), key, ticks=ticks, span=BAR, bar=BAR)
    assert sum(chord.bars for chord in row) == ticks // BAR
    if chords:
        assert names(row, key) == chords


def test_a_row_leads_home_and_what_is_muted_says_nothing():
    # The last bar could be D minor or G: it goes round, so it is what falls to C.
    tune = line(60, 64, 67, 64, 65, 69, 72, 69, 62, 62, 62, 62)
    row = harmonised(tune, (), C, ticks=3 * BAR, span=BAR, bar=BAR)
    assert names(row, C) == ["C", "F", "G"]
    muted = tuple(replace(note, pitch=61 + note.pitch % 2, muted=True) for note in tune)
    assert harmonised((*tune, *muted), (), C, ticks=3 * BAR, span=BAR, bar=BAR) == row
    silent = tuple(replace(note, muted=True) for note in line(*(41,) * 12))
    assert harmonised(tune, silent, C, ticks=3 * BAR, span=BAR, bar=BAR) == row


@given(keys, st.lists(st.integers(48, 84), min_size=1, max_size=32), st.sampled_from((1, 2, 4)))
def test_every_row_fills_the_loop_and_keeps_to_the_key(key, pitches, per_bar):
    notes = line(*pitches)
    bars = -(-len(pitches) // 4)
    row = harmonised(notes, (), key, ticks=bars * BAR, span=BAR // per_bar, bar=BAR)
    assert sum(chord.bars for chord in row) == bars
    for chord in row:
        outside = [pc for pc in chord.tones if pc not in key.scale]
        # At most the raised third of the chord on the fifth.
        assert len(outside) <= 1
        if outside:
            assert chord.tones[0] == key.scale[4]


def test_a_chord_tone_in_the_bass_stands_below():
    row = harmonised((), line(40, 40, 43, 48), C, ticks=BAR, span=BAR, bar=BAR)
    assert len(row) == 1
    assert row[0].bass in (None, *row[0].tones[1:])
    (over_third,) = harmonised(line(60, 67, 72, 67), line(40, 40, 40, 40), C, ticks=BAR, span=BAR,
                               bar=BAR)  # fmt: skip
    assert (names([over_third], C), over_third.bass) in ((["C"], 4), (["Em"], None))


@pytest.fixture
def lines():
    """Four bars with a tune and a bass of their own, and no chords."""
    loop = layer_edits.add_note_layer(empty_loop(C, 100.0, bars=4))
    loop = layer_edits.set_layer(layer_edits.add_note_layer(loop), "l2", role="bass")
    tune = line(60, 64, 67, 64, 65, 69, 72, 69, 67, 71, 74, 71, 72, 67, 64, 60)
    bass = line(36, 41, 43, 36, each=BAR)
    return own_notes.with_own(own_notes.with_own(loop, "l1", tune), "l2", bass)


def test_a_line_gets_three_proposals(lines):
    both = proposed_chords(lines, "l1")
    assert both[0].words == "From Notes and Notes 2"
    assert names(both[0].row, C) == ["C", "F", "G", "C"]
    alone = proposed_chords(layer_edits.set_layer(lines, "l2", mute=True), "l1")
    assert [one.words for one in alone][:2] == ["One chord per bar", "Two chords per bar"]
    assert len({one.row for one in alone}) == len(alone) <= 3
    with pytest.raises(CloudriftError, match="no notes of its own"):
        proposed_chords(layer_edits.add_layer(lines, "warm pad"), "l3")


def test_a_bass_without_chords_to_follow_takes_the_roots_of_what_plays(lines):
    loop = layer_edits.add_layer(layer_edits.remove_layer(lines, "l2"), "round sub")
    assert notes_of(loop, loop.layers[-1]) == ()
    made = put_roots(loop, loop.layers[-1].id)
    own = made.layers[-1].own
    assert [n.pitch % 12 for n in own] == [0, 5, 7, 0] and max(n.pitch for n in own) < 48
    assert own[-1].end_tick == loop.ticks
    # With chords they are those; of nothing there are none.
    chords = put_row(lines, parse_progression("Dm G", C))
    assert [n.pitch % 12 for n in roots_of_what_plays(chords)] == [2, 7]
    with pytest.raises(CloudriftError, match="no sounding roots are known"):
        put_roots(layer_edits.add_layer(empty_loop(C, 100.0), "round sub"), "l1")


def test_chords_for_a_line_are_heard_on_resting_and_taken_by_a_press(qtbot, window, lines):
    session = window.session
    session.document.open(lines, None)
    window.show_stage(1)
    session.select(layer_id="l1")
    window.importing.chords_of_layer()
    sheet = window.findChild(ProposalsSheet)
    assert len(sheet.takes) == 1  # all three say the same
    rest_on(sheet.takes[0])
    qtbot.waitUntil(lambda: bool(session.hearing.heard_loop.chords), timeout=5_000)
    assert session.loop == lines  # only heard
    qtbot.mouseClick(sheet.takes[0], Qt.MouseButton.LeftButton)
    assert [c.root for c in session.loop.chords] == [0, 5, 7, 0]
    assert "From Notes and Notes 2: C" in window.message.text()
    settled(qtbot, session)


def test_a_sub_in_a_loop_without_chords_says_so_and_offers_roots(qtbot, window, lines):
    session = window.session
    session.document.open(layer_edits.remove_layer(lines, "l2"), None)
    window.show_stage(1)
    window.layers._add("round sub")
    view = window.layers.notes
    assert "there are no chords to follow" in view.words.text()
    assert view.roots.isVisible()
    qtbot.mouseClick(view.roots, Qt.MouseButton.LeftButton)
    assert [n.pitch % 12 for n in session.loop.layers[-1].own] == [0, 5, 7, 0]
    assert not view.roots.isVisible()


def test_what_is_typical_of_a_card_is_offered_to_its_loops_alone(window, small_loop):
    bar = window.chords.row_bar
    bar._fill_menu()
    assert any(a.text() == "Typical of Marlow Quist" for a in bar.menu.actions())
    window.session.apply("no style", lambda loop: loop_edits.set_style(loop, ""))
    bar._fill_menu()
    assert not any("Typical" in a.text() for a in bar.menu.actions())


def test_who_begins_without_chords_begins_without_sections(qtbot, window):
    window.start_loop()
    qtbot.mouseClick(window.start.begin_empty, Qt.MouseButton.LeftButton)
    document = window.session.document.history.now
    assert document.loop.layers and not document.loop.chords
    assert document.arrangement.sections == ()
