"""The arrangement as sound: sections of the loop, joins, what happens at a change, files."""

from itertools import pairwise

import numpy as np
import pytest
import soundfile
from click.testing import CliRunner
from msgspec.structs import replace
from scipy import signal

from cloudrift.cli.main import commands
from cloudrift.deliver.arranged import deliver_all, without_loop
from cloudrift.ground.cancel import Cancelled
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.arranging.arranging import (
    add_section,
    arrange,
    set_part,
    set_ride,
    set_seam,
    set_section,
    set_tempo,
)
from cloudrift.loop.edits.arranging.section_loops import section_loop
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.files.storage import save
from cloudrift.loop.model.bed import hits_of
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.section_rides import SectionPoint, SectionRide, can_ride, knots_of
from cloudrift.loop.model.sections import Seam
from cloudrift.render import Engine
from cloudrift.render.forms import seams
from cloudrift.render.forms.spans import ending, lengths_of, spans_of, turns_of
from cloudrift.render.forms.timeline import pieces, whole
from cloudrift.style.form import over_line, slowed_line
from cloudrift.style.sums import sum_line
from cloudrift.texture.catalogue import find_kind
from cloudrift.texture.treatment import Treatment
from tests.test_arranging import BEDDED

pytestmark = pytest.mark.usefixtures("remembering")  # sound is a means here

RATE = BEDDED.rate
TURN = BEDDED.sounding_frames
BEAT = TURN / 8


@pytest.fixture(scope="module")
def engine():
    made = Engine()
    yield made
    made.close()


def arranged(*bars, loop=BEDDED):
    document = Document.of(loop)
    for one in bars:
        document = add_section(document, bars=one)
    return document


def ids(document):
    return [one.id for one in document.arrangement.sections]


def db(audio):
    return 10 * np.log10(max(float(np.square(audio).mean()), 1e-12))


def treated(kind, treatment_id="t1", **settings):
    of = find_kind(kind)
    return Treatment(id=treatment_id, kind=kind, version=of.version,
                     settings=tuple(sorted(settings.items())))  # fmt: skip


def sound(engine, document):
    audio, found = whole(engine, document)
    return np.array(audio), [one.start for one in found]


def step_db(audio, at):
    """How large the bend of the wave at a frame is, against those nearby (99th percentile), dB."""
    bend = np.abs(np.diff(audio[:, at - 2000 : at + 2000], 2)).max(axis=0)
    usual = np.quantile(bend, 0.995)
    return 20 * np.log10(max(bend[1996:2002].max(), 1e-9) / max(usual, 1e-9))


# --- lengths --------------------------------------------------------------------------------------


@pytest.mark.parametrize("bars", [(2, 4), (1, 3, 5), (8, 1, 2)])
def test_the_lengths_of_sections_add_up_to_the_whole(engine, bars):
    document = arranged(*bars)
    lengths = lengths_of(document)
    assert [round(one / TURN * 2) for one in lengths] == list(bars)
    audio, starts = sound(engine, document)
    assert starts == [0, *np.cumsum(lengths)[:-1]]
    assert audio.shape[1] >= sum(lengths)  # and a tail
    assert turns_of(document) == (TURN,) * len(bars)
    assert sum(span.frames for span in spans_of(document)) == sum(lengths)


def test_sections_begin_where_a_drop_before_them_has_ended_each_in_its_own_tempo(engine):
    """The beat that a drop is counted in is that of the section which ends with it."""
    document = arranged(2, 2, 2)
    _first, second, third = ids(document)
    document = set_section(document, second, line=slowed_line(12))  # twice as slow
    document = set_seam(document, second, sag_beats=4.0, sag_share=0.5)
    document = set_seam(document, third, sag_beats=4.0, sag_share=0.5)
    lengths = lengths_of(document)
    assert lengths[0] == TURN + seams.sag_adds(round(4 * BEAT), 0.5)
    assert lengths[1] == 2 * TURN + seams.sag_adds(round(8 * BEAT), 0.5)
    found = list(pieces(engine, document))
    assert [one.start for one in found] == [0, lengths[0], lengths[0] + lengths[1]]
    assert [one.audio.shape[1] for one in found] == lengths


def test_a_crash_rings_on_through_sections_that_are_shorter_than_it(engine):
    document = arranged(1, 1, 1, 1)
    crashed = set_seam(document, ids(document)[1], crash_db=0.0)
    plain, starts = sound(engine, document)
    with_crash, _ = sound(engine, crashed)
    end = starts[3] + RATE // 4
    rings = with_crash[:, :end] - plain[:, :end]
    heard = [db(rings[:, at : at + RATE // 5]) for at in starts]
    assert heard[0] < -110
    assert heard[1] - 8 > heard[2] > -60  # on from where it was, softer and softer
    assert heard[2] - 4 > heard[3]


def test_nothing_rings_on_through_a_silence(engine):
    document = arranged(1, 1, 1)
    _first, second, third = ids(document)
    document = set_seam(document, third, silence_beats=1.0)
    plain, starts = sound(engine, document)
    with_crash, _ = sound(engine, set_seam(document, second, crash_db=0.0))
    end = starts[2] + TURN // 2
    assert np.array_equal(with_crash[:, starts[2] : end], plain[:, starts[2] : end])
    assert not np.array_equal(with_crash[:, : starts[2]], plain[:, : starts[2]])


def test_a_sag_and_a_slower_section_are_counted(engine):
    document = arranged(2, 2)
    first, second = ids(document)
    document = set_seam(document, second, sag_beats=4.0, sag_share=0.5)
    document = set_section(document, second, line=slowed_line(12))
    lengths = lengths_of(document)
    assert lengths[0] == TURN + seams.sag_adds(round(4 * BEAT), 0.5)
    assert lengths[1] == 2 * TURN
    found = list(pieces(engine, document))
    assert [one.audio.shape[1] for one in found] == lengths
    assert first == "s1" and found[1].turn == 2 * TURN


# --- sections that are the loop -------------------------------------------------------------------


def test_sections_that_are_the_loop_sound_as_the_loop(engine):
    """After the first pass nothing tells that there are sections; below -70 dB."""
    document = arranged(4, 2, 4)
    audio, _starts = sound(engine, document)
    loop = engine.render(BEDDED).audio
    for turn in range(2, 5):
        off = audio[:, turn * TURN : (turn + 1) * TURN] - loop
        assert db(off) < db(loop) - 70, turn


def test_the_first_pass_comes_from_silence_and_the_last_rings_on(engine):
    document = arranged(2)
    audio, _starts = sound(engine, document)
    once = engine.once(BEDDED)
    assert np.allclose(audio[:, :TURN], once[:, :TURN], atol=1e-6)
    assert audio.shape[1] > TURN and db(audio[:, TURN : TURN + 4000]) > -60


def test_a_section_that_differs_is_its_own_loop_and_the_tail_before_it_is_laid_on_it(engine):
    document = arranged(2, 8)
    _first, second = ids(document)
    document = set_part(document, second, "l1", on=False)
    document = set_section(document, second, bed=False)
    audio, starts = sound(engine, document)
    section = replace(layer_edits.set_layer(BEDDED, "l1", mute=True), bed=None)
    loop = engine.render(section).audio
    # What was heard before it, metal too, has died away by its last pass.
    last = audio[:, starts[1] + 3 * TURN : starts[1] + 4 * TURN]
    assert db(last - loop) < db(loop) - 50
    alone, _ = sound(engine, set_section(arranged(8), "s1", bed=False,
                                         parts=document.arrangement.sections[1].parts))  # fmt: skip
    tail = audio[:, starts[1] : starts[1] + 8000] - alone[:, :8000]
    assert db(tail) > -60  # what was before rings into it


def test_joins_are_no_steps(engine):
    document = arranged(2, 4, 3)
    second = ids(document)[1]
    document = set_part(document, second, "l2", level_db=-6.0)
    audio, starts = sound(engine, document)
    for at in (*starts[1:], TURN * 2, audio.shape[1] - 2100):
        assert step_db(audio, at) < 12, at


def test_levels_and_what_lies_over_a_section_are_heard(engine):
    document = arranged(2, 2)
    quiet = set_section(document, "s1", level_db=-12.0)
    under = set_section(document, "s1", over=over_line("underwater"))
    plain, low, dark = (sound(engine, one)[0][:, :TURN] for one in (document, quiet, under))
    assert db(low) == pytest.approx(db(plain) - 12, abs=0.1)

    def above(audio, hz):
        f, p = signal.welch(audio.mean(axis=0), RATE, nperseg=4096)
        return 10 * np.log10(p[f > hz].sum() + 1e-15)

    assert above(dark, 3000) < above(plain, 3000) - 20


def silent(document, section_id):
    """A document in one of whose sections nothing plays."""
    for layer in document.loop.layers:
        document = set_part(document, section_id, layer.id, on=False)
    return set_section(document, section_id, bed=False)


@pytest.mark.parametrize("kinds", [("overdrive",), ("overdrive", "hall"), ("compressor",)])
def test_what_rings_on_of_a_sound_that_is_not_linear_joins_without_a_step(engine, kinds):
    loop = replace(BEDDED, line=tuple(treated(kind, f"t{i}") for i, kind in enumerate(kinds, 1)))
    audio, starts = sound(engine, silent(arranged(4, 2, loop=loop), "s2"))
    assert step_db(audio, starts[1]) < 8
    assert db(audio[:, starts[1] : starts[1] + 4000]) > -60  # it does ring on


def test_what_is_made_from_a_section_on_is_what_is_made_of_all(engine):
    document = arranged(2, 2, 2)
    all_ = list(pieces(engine, document))
    from_second = list(pieces(engine, document, first=1))
    assert [one.at for one in from_second] == [1, 2]
    assert np.allclose(from_second[1].audio, all_[2].audio, atol=1e-5)
    assert [one.at for one in pieces(engine, document, first=1, end=2)] == [1]
    assert list(pieces(engine, document, first=2, end=1)) == []


def test_it_stops_when_nobody_wants_it():
    made = Engine()
    try:
        with pytest.raises(Cancelled):
            list(pieces(made, arranged(2, 2), lambda: True))
    finally:
        made.close()


# --- what happens at a change ---------------------------------------------------------------------


def seamed(engine, **changes):
    """All of it with nothing happens here and with one where something happens; where the change "
    "is."""
    plain = arranged(4, 4)
    made = set_seam(plain, ids(plain)[1], **changes)
    (one, starts), (other, _) = sound(engine, plain), sound(engine, made)
    count = min(one.shape[1], other.shape[1])
    return one[:, :count], other[:, :count], starts[1]


def test_a_riser_rises_before_the_change_to_its_level(engine):
    plain, made, at = seamed(engine, riser_bars=2.0, riser_db=-20.0)
    riser = (made - plain)[:, :at]
    first = at - TURN  # two bars
    assert np.abs(riser[:, : first - 10]).max() < 1e-6
    steps = [db(riser[:, first + i * TURN // 4 : first + (i + 1) * TURN // 4]) for i in range(4)]
    assert all(b > a + 4 for a, b in pairwise(steps))
    assert 20 * np.log10(np.abs(riser).max()) == pytest.approx(-20, abs=0.5)
    f, _, p = signal.stft(riser[0, first:at], RATE, nperseg=4096)
    centroid = (f[:, None] * np.abs(p)).sum(axis=0) / (np.abs(p).sum(axis=0) + 1e-9)
    third = len(centroid) // 3
    assert centroid[-third:].mean() > 1.3 * centroid[:third].mean()  # it climbs


def test_nothing_is_nothing_and_what_comes_is_as_from_silence(engine):
    _plain, made, at = seamed(engine, silence_beats=2.0)
    quiet = made[:, at - round(2 * BEAT) + 900 : at]
    assert db(quiet) < -90
    assert db(made[:, at : at + 8000]) > -50
    once = engine.once(BEDDED)
    assert np.allclose(made[:, at : at + TURN // 2], once[:, : TURN // 2], atol=1e-5)


def test_a_filter_closes_before_a_change_or_opens_behind_it(engine):
    def highs(audio):
        f, p = signal.welch(audio.mean(axis=0), RATE, nperseg=2048)
        return 10 * np.log10(p[f > 4000].sum() + 1e-15)

    eighth = round(BEAT / 2)
    plain, made, at = seamed(engine, sweep="closes", sweep_bars=2.0)
    assert highs(made[:, at - eighth : at]) < highs(plain[:, at - eighth : at]) - 20
    assert np.array_equal(made[:, : at - TURN - 10], plain[:, : at - TURN - 10])
    plain, made, at = seamed(engine, sweep="opens", sweep_bars=2.0)
    assert highs(made[:, at : at + eighth]) < highs(plain[:, at : at + eighth]) - 15
    end = at + TURN
    assert step_db(made, end) < step_db(plain, end) + 1
    assert highs(made[:, end - eighth : end]) > highs(plain[:, end - eighth : end]) - 3
    assert np.allclose(made[:, end + 100 : end + 9000], plain[:, end + 100 : end + 9000], atol=1e-4)


def test_a_tempo_that_sags_is_lower_and_later_at_its_end():
    t = np.arange(2 * RATE) / RATE
    tone = np.tile(np.sin(2 * np.pi * 440 * t).astype(np.float32), (2, 1))
    made = seams.tape_stop(tone, RATE, 0.5)
    assert made.shape[1] == tone.shape[1] + seams.sag_adds(RATE, 0.5) > tone.shape[1] + RATE // 4
    assert np.array_equal(made[:, :RATE], tone[:, :RATE])

    def pitch(audio):
        spectrum = np.abs(np.fft.rfft(audio[0] * np.hanning(audio.shape[1]), 1 << 17))
        return np.argmax(spectrum) * RATE / (1 << 17)

    assert pitch(made[:, -2200:]) == pytest.approx(220, rel=0.08)
    assert seams.sag_adds(4, 0.5) == 0 and np.array_equal(seams.tape_stop(tone, 4, 0.5), tone)


def test_what_comes_is_heard_backward_before_it(engine):
    plain, made, at = seamed(engine, lead_beats=2.0)
    count = round(2 * BEAT)
    lead = (made - plain)[:, at - count : at]
    comes = plain[:, at : at + count]
    turned = lead[:, ::-1]
    like = float((turned * comes).sum() / np.sqrt(np.square(turned).sum() * np.square(comes).sum()))
    assert like > 0.6
    assert db(lead[:, -count // 4 :]) > db(lead[:, : count // 4]) + 6  # it swells


@pytest.mark.parametrize("field", ["crash_db", "tag_db"])
def test_what_strikes_at_the_change_begins_there_at_its_level(engine, field):
    plain, made, at = seamed(engine, **{field: -12.0})
    off = made - plain
    assert np.abs(off[:, :at]).max() < 1e-6
    peak = 20 * np.log10(np.abs(off[:, at : at + RATE]).max())
    assert peak == pytest.approx(-12, abs=3)


def test_a_reverb_burst_rings_over_the_change(engine):
    plain, made, at = seamed(engine, burst_db=-12.0)
    off = made - plain
    assert db(off[:, at : at + 8000]) > -50
    assert db(off[:, at : at + 8000]) > db(off[:, at + RATE : at + RATE + 8000])


def backs(loop):
    names = {"snare", "clap", "snap"}
    return [x for x in loop.lanes if {use.name for use in x.source.sounds} & names]


def test_drums_end_with_their_last_backbeat(engine):
    loop = ending(BEDDED, Seam(cut=True))
    last = max(hit.tick for hit in hits_of(backs(loop)[0]).pattern.hits)
    assert last >= 3840  # in the last bar
    assert all(hit.tick <= last for lane in loop.lanes for hit in hits_of(lane).pattern.hits)
    before = sum(len(hits_of(x).pattern.hits) for x in loop.lanes)
    assert before > 0
    off = set_seam(arranged(4, 4), "s2", cut=True)
    audio, starts = sound(engine, without_loop(off))
    quiet = audio[:, starts[1] - round(BEAT / 4) : starts[1]]
    full = sound(engine, without_loop(arranged(4, 4)))[0]
    assert db(quiet) < db(full[:, : starts[1]]) - 12


def test_a_fill_is_the_other_patterns_last_bar_in_the_last_bar():
    loop = ending(BEDDED, Seam(fill=True))
    for lane, was in zip(loop.lanes, BEDDED.lanes, strict=True):
        other = next(one for one in hits_of(was).patterns if one.name == "B")
        end = other.bars * 3840
        wanted = [hit.tick - (end - 3840) for hit in other.hits if hit.tick >= end - 3840]
        found = [hit.tick - 3840 for hit in hits_of(lane).pattern.hits if hit.tick >= 3840]
        assert sorted(found) == sorted(wanted)
    assert ending(BEDDED, Seam()) is BEDDED
    assert ending(replace(BEDDED, bed=None), Seam(fill=True, cut=True)).bed is None


def test_a_fill_lasts_one_pass_only(engine):
    document = set_seam(arranged(6, 2), "s2", fill=True)
    assert [(one.at, one.passes) for one in spans_of(document)] == [(0, 2), (0, 1), (1, 1)]
    audio, starts = sound(engine, document)
    loop = engine.render(BEDDED).audio
    join = 1000  # where what little is missing is made good
    assert db(audio[:, TURN + join : 2 * TURN] - loop[:, join:]) < db(loop) - 70
    assert starts[1] == 3 * TURN


# --- the master chain ------------------------------------------------------------------------


def test_the_line_of_all_of_it_holds_its_peak_and_has_no_joins(engine):
    plain = arranged(2, 4)
    driven = arrange(plain, line=sum_line("drive, then limit", 8.0))
    audio, starts = sound(engine, driven)
    bare, _ = sound(engine, plain)
    assert db(audio[:, :TURN]) > db(bare[:, :TURN]) + 3
    assert np.abs(audio).max() <= 10 ** (-1 / 20) * 1.01
    assert step_db(audio, starts[1]) < 12
    hall = arrange(silent(plain, "s2"), line=(treated("hall", decay_s=4.0),))
    audio, starts = sound(engine, hall)
    bare_there = sound(engine, silent(plain, "s2"))[0][:, starts[1] :]
    there = audio[:, starts[1] : starts[1] + 4000]  # what was before it still rings in the line
    assert db(there) > max(db(bare_there[:, :4000]), db(audio[:, : starts[1]]) - 30)
    assert step_db(audio, starts[1]) < 12
    found = list(pieces(engine, driven))
    assert np.allclose(np.concatenate([one.bare for one in found], axis=1),
                       bare[:, : sum(lengths_of(plain))], atol=1e-6)  # fmt: skip


# --- files ----------------------------------------------------------------------------------------


def test_all_of_it_is_written_with_its_loop_and_bed_apart(engine, tmp_path):
    """Apart they add up to the whole, before the master chain."""
    document = set_seam(arranged(2, 2), "s2", crash_db=-12.0, burst_db=-20.0, lead_beats=1.0)
    document = arrange(document, line=sum_line("clip, then limit"))
    said = []
    paths = deliver_all(document, tmp_path / "out", stems=True,
                        progress=lambda *one: said.append(one[:2]))  # fmt: skip
    assert said == [(i, 6) for i in range(1, 7)]
    assert [path.stem.rpartition("_arranged")[2] for path in paths] == ["", "_loop", "_bed"]
    all_, loop, bed = (soundfile.read(path, always_2d=True)[0].T for path in paths)
    plain, _ = sound(engine, arrange(document, line=()))
    count = min(one.shape[1] for one in (plain, loop, bed))
    assert db(plain[:, :count] - loop[:, :count] - bed[:, :count]) < db(plain) - 90
    assert db(bed) > -50 and db(loop) > -50 and all_.shape[1] >= 2 * TURN
    crash = bed[:, TURN : TURN + 2000]
    alone, _ = sound(engine, without_loop(arranged(2, 2)))
    assert db(crash - alone[:, TURN : TURN + 2000]) < -60  # what seams add goes with the loop
    assert sorted((tmp_path / "out").iterdir()) == sorted(paths)


def test_what_cannot_be_written_is_refused(tmp_path):
    with pytest.raises(CloudriftError, match="no arrangement yet"):
        deliver_all(Document.of(BEDDED), tmp_path / "none")
    with pytest.raises(Cancelled):
        deliver_all(arranged(2), tmp_path / "stopped", cancelled=lambda: True)
    assert not list((tmp_path / "stopped").iterdir())


def test_the_command_line_renders_all_of_it(tmp_path):
    save(set_section(arranged(2, 2), "s2", bed=False), tmp_path / "Ice.cloudrift")
    result = CliRunner().invoke(
        commands, ["render", str(tmp_path / "Ice.cloudrift"), "--all", "--stems", "-o",
                   str(tmp_path / "out")], catch_exceptions=False,
    )  # fmt: skip
    assert result.exit_code == 0, result.output
    assert len(list((tmp_path / "out").glob("*_arranged*.wav"))) == 3


# --- what rides over a section --------------------------------------------------------------------


def ride(owner="", treatment="", of="level_db", *, points):
    made = tuple(SectionPoint(at=at, value=value) for at, value in points)
    return SectionRide(owner=owner, treatment=treatment, of=of, points=made)


def test_a_level_rides_over_all_turns_of_a_section(engine):
    plain = arranged(8, 2)
    rides = set_ride(plain, "s1", ride(points=((0, 0.0), (1, -24.0))))
    (one, starts), (other, again) = sound(engine, plain), sound(engine, rides)
    assert starts == again and one.shape == other.shape
    for turn in range(4):
        part = np.s_[:, turn * TURN + TURN // 4 : turn * TURN + TURN // 2]
        there = (turn + 0.375) / 4
        assert db(other[part]) - db(one[part]) == pytest.approx(-24 * there, abs=0.8), turn
    for at in (TURN, 2 * TURN, 3 * TURN):
        assert step_db(other, at) < 12, at
    end = np.s_[:, starts[1] + TURN // 2 : starts[1] + TURN]
    assert db(other[end]) == pytest.approx(db(one[end]), abs=1.0)  # the next one is as it was


def test_a_layers_level_and_a_setting_and_a_blend_ride(engine):
    line = BEDDED.line_of("l2")
    setting = next((t, f) for t in line for f in t.of.spec if f.rides and not f.choices)
    plain = arranged(4)
    bare, _ = sound(engine, plain)
    (treatment, field) = setting
    for one in (
        ride("l2", points=((0, 0.0), (1, -60.0))),
        ride("l2", treatment.id, field.name, points=((0, field.low), (1, field.high))),
        ride("l2", treatment.id, "blend", points=((0.2, 0.0), (0.8, 100.0))),
        ride(beds_of(BEDDED), points=((0, -40.0), (1, 0.0))),
    ):
        document = set_ride(plain, "s1", one)
        loops = [knot.loop for span in spans_of(document) for knot in span.knots]
        assert len({id(x) for x in loops}) > 2
        audio, _ = sound(engine, document)
        assert not np.allclose(audio[:, : 2 * TURN], bare[:, : 2 * TURN], atol=1e-4), one
        assert step_db(audio, TURN) < 12


def test_what_is_bypassed_or_at_zero_may_ride_and_acts_where_it_does(engine):
    """It is offered with a word on how it is elsewhere."""
    (one, *_rest) = BEDDED.line_of("l2")
    field = next(f for f in one.of.spec if f.rides and not f.choices)
    off = line_edits.set_treatment(BEDDED, "l2", one.id, on=False)
    zero = line_edits.set_treatment(BEDDED, "l2", one.id, blend=0.0)
    offered = {what: words for words, what in can_ride(off, "l2")}
    assert offered["l2", one.id, field.name].endswith(", bypassed elsewhere")
    offered = {what: words for words, what in can_ride(zero, "l2") if what[1] == one.id}
    assert list(offered) == [("l2", one.id, "blend")]
    assert offered["l2", one.id, "blend"].endswith(", at 0 % elsewhere")
    for loop, of, low, high in ((off, field.name, field.low, field.high), (off, "blend", 0, 100),
                                (zero, "blend", 0, 100)):  # fmt: skip
        plain = arranged(4, loop=loop)
        rides = set_ride(plain, "s1", ride("l2", one.id, of, points=((0, low), (1, high))))
        bare, audio = sound(engine, plain)[0], sound(engine, rides)[0]
        assert not np.allclose(audio[:, : 2 * TURN], bare[:, : 2 * TURN], atol=1e-4), of
        for knot in knots_of(loop, rides.arrangement.sections[0].rides):
            (there, *_more) = knot.loop.line_of("l2")
            assert there.on


def beds_of(loop):
    return loop.bed.group.id


def test_all_of_it_rides_from_its_own_level_and_each_point_is_a_knot(engine):
    quieter = replace(BEDDED, level_db=-3.0)
    points = ((0, 0.0), (0.37, -24.0), (1, -6.0))
    knots = knots_of(quieter, (ride(points=points),))
    levels = {knot.at: knot.loop.level_db for knot in knots}
    assert [levels[at] for at, _ in points] == [-3.0, -27.0, -9.0]
    ways = [abs(b - a) for a, b in pairwise(knot.loop.level_db for knot in knots)]
    assert max(ways) < 8.0  # between two of them it never leaps


def test_a_ride_that_stays_where_it_is_changes_nothing(engine):
    level = BEDDED.layer("l1").level_db
    document = set_ride(arranged(6), "s1", ride("l1", points=((0, level), (1, level))))
    audio, _ = sound(engine, document)
    plain, _ = sound(engine, arranged(6))
    assert db(audio[:, : 3 * TURN] - plain[:, : 3 * TURN]) < db(plain) - 60


def test_a_section_that_rides_rings_on_with_all_of_its_turns(engine):
    """In a hall that rings for longer than the loop lasts, all passes are still to be heard."""
    loop = replace(BEDDED, line=(treated("hall", decay_s=12.0),))
    level = loop.layer("l1").level_db
    plain = silent(arranged(6, 4, loop=loop), "s2")
    rides = set_ride(plain, "s1", ride("l1", points=((0, level), (1, level))))
    (one, starts), (other, _) = sound(engine, plain), sound(engine, rides)
    rest = np.s_[:, starts[1] : starts[1] + TURN]
    assert db(other[rest] - one[rest]) < db(one[rest]) - 40


def test_a_fill_and_a_cut_turn_are_ridden_too(engine):
    document = set_seam(arranged(5, 2), "s2", fill=True)
    document = set_ride(document, "s1", ride(points=((0, -12.0), (1, 0.0))))
    spans = spans_of(document)
    assert [one.passes for one in spans[:3]] == [1, 1, 1] and spans[2].loop.bars == 1
    assert spans[1].turn == 1 and spans[2].turn == 0
    assert spans[0].from_to == (0.0, pytest.approx(0.4)) and spans[2].from_to[1] == 1.0
    audio, starts = sound(engine, document)
    assert starts[1] == round(2.5 * TURN)
    assert np.isfinite(audio).all()


@pytest.mark.parametrize(("owner", "treatment", "of", "points", "says"), [
    ("", "", "level_db", ((0, 0.0),), "needs 2 to 16 points, not 1"),
    ("", "", "level_db", ((0, 0.0), (0, 1.0)), "must rise from 0 to 1"),
    ("", "", "level_db", ((0, 0.0), (1.5, 1.0)), "must rise from 0 to 1"),
    ("", "", "level_db", ((0, 0.0), (1, 90.0)), "level"),
    ("l99", "", "level_db", ((0, 0.0), (1, 1.0)), "l99"),
    ("l1", "", "pan", ((0, 0.0), (1, 1.0)), "pan is not a value"),
    ("l1", "t99", "blend", ((0, 0.0), (1, 1.0)), "no treatment 't99'"),
])  # fmt: skip
def test_a_ride_that_cannot_be_is_refused_in_words(owner, treatment, of, points, says):
    with pytest.raises(CloudriftError) as told:
        set_ride(arranged(2), "s1", ride(owner, treatment, of, points=points))
    assert says in str(told.value)


def test_a_ride_of_what_is_gone_rests_and_is_kept(engine):
    document = set_ride(arranged(4), "s1", ride("l1", points=((0, 0.0), (1, -20.0))))
    gone = document.with_loop(layer_edits.remove_layer(BEDDED, "l1"))
    assert not any(span.knots for span in spans_of(gone))
    assert gone.arrangement.sections[0].rides
    again = set_ride(document, "s1", None, what=("l1", "", "level_db"))
    assert again == arranged(4)
    moved = set_ride(document, "s1", ride("l1", points=((0, -6.0), (1, -20.0))))
    assert len(moved.arrangement.sections[0].rides) == 1  # in its place


def test_a_section_of_another_tempo_sounds_as_its_loop_at_that_tempo(engine):
    document = arranged(2, 2)
    document = set_tempo(document, ids(document)[1], 97.0)
    document = set_seam(document, ids(document)[1], silence_beats=1.0)  # nothing rings into it
    audio, starts = sound(engine, document)
    made = section_loop(document, ids(document)[1])
    turns = 2 // made.bars
    tail = BEDDED.sounding_frames * (2 // BEDDED.bars)
    assert starts == [0, tail]
    alone, _ = sound(engine, arranged(2, loop=made))
    n = turns * made.sounding_frames
    assert np.abs(audio[:, tail : tail + n] - alone[:, :n]).max() < 1e-4
