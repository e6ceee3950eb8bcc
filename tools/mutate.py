"""Listed one-line faults over the core, each put in by itself: do the tests see it?

Each fault is a line that somebody might have written instead. The program and its tests are copied,
one line is changed, and the tests that are about it are run; a fault that none of them sees is
printed. ``make mutants`` prints which share was seen.
"""

import argparse
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

HOME = Path(__file__).resolve().parent.parent
COPIED = ("cloudrift", "tests", "tools", "bench", "docs")
LONGEST_S = 400


@dataclass(frozen=True)
class Fault:
    """In a file of the program, ``right`` stands once; ``wrong`` is put there instead."""

    file: str
    right: str
    wrong: str
    tests: str  # files of tests, without "test_"


FAULTS = (
    # What was mended: ends of the keyboard's way, names, numbers, levels, chords for a line.
    Fault("desktop/kit/parts.py", "signal.connect(self.ask)",
          "signal.connect(lambda *given: self.ask(*given))", "sheets"),
    Fault("desktop/stages/layers/stage.py", "now.by_tab and was_left", "now.by_tab or was_left",
          "layers"),
    Fault("cli/options.py", "if not math.isfinite(made):", "if False:", "commands"),
    Fault("cli/options.py", "if os.path.lexists(path) and not replace:", "if False:", "commands"),
    Fault("cli/options.py", "if path.is_symlink():", "if False:", "commands hostile"),
    Fault("deliver/cells.py", "value.startswith(FORMULA)", "value.startswith(FORMULA[:2])",
          "rights kit commands hostile"),
    Fault("ground/words.py", "if not name.isprintable():", "if False:", "hostile loop"),
    Fault("loop/files/recovery.py", "        lock.unlink()\n\n\ndef _written",
          "        pass\n\n\ndef _written", "saving hostile"),
    Fault("desktop/session/preferences.py", "what = changes(there)", "what = changes(self.now)",
          "settings"),
    Fault("desktop/session/preferences.py", "del raw[name]", "raw.clear(); break", "settings"),
    Fault("audio/sound_file.py", "0.0 if of.bits and bits == FLOATING else over_db(audio)", "0.0",
          "audio delivery"),
    Fault("audio/sound_file.py", "math.ceil(over * 10 + 0.5) / 10", "math.ceil(over * 10 - 1) / 10",
          "audio delivery kit"),
    Fault("deliver/parcels.py", "making.lower_db = turn_down_db(worst)", "making.lower_db = 0.0",
          "delivery kit deliver_stage"),
    Fault("loop/edits/layers/new_layer.py", "max(10 ** (CEILING_DB / 10) - others**2,",
          "max(10 ** (CEILING_DB / 10) + others**2,", "playing_in"),
    Fault("notes/harmonise.py", "BASS_SAYS[tones.index(pc)] if pc in tones else BASS_OTHER",
          "IN_CHORD if pc in tones else OUT_OF_CHORD", "harmonise"),
    Fault("notes/harmonise.py", "best = best + moves[:, 0]  # it goes round, and home", "pass",
          "harmonise"),
    Fault("notes/harmonise.py", "return low if low in tones[1:] else None", "return low",
          "harmonise"),
    Fault("notes/harmonise.py", "if inside <= 0 or note.muted:", "if inside <= 0:", "harmonise"),
    Fault("theory/fit.py", "if notes <= set(key.scale):\n        return None\n    lenders",
          "if False:\n        return None\n    lenders", "theory chords"),
    Fault("theory/key.py", "pretty(self.written.tonic)", "pretty(self.tonic)", "theory"),
    Fault("audio/listen/pitch.py", "(power > SOUNDS**2 * power.mean())", "(power > -1)",
          "listening recordings"),
    Fault("render/forms/printing.py", "moved((at + share) / count, words)", "moved(share, words)",
          "prints"),
    Fault("desktop/session/work/printing.py",
          "if request == self._request:", "if True:", "flip_stage"),
    Fault("desktop/session/work/marking.py",
          "        self._looked = None\n        self._soon.start()",
          "        self._soon.start()", "style_page"),
    Fault("desktop/stages/layers/stage.py", "bar.rangeChanged.connect(self._bring_into_view)",
          "pass", "layers"),
    # Rooms of the window, and a list that two threads find missing.
    Fault("ground/memory.py", "gc.freeze()", "pass", "desktop"),
    Fault("desktop/frame/enter_presses.py", "now.installEventFilter(self)", "pass", "desktop"),
    Fault("desktop/kit/parts.py", "self.insertWidget(at, page)", "self.addWidget(page)", "desktop"),
    Fault("desktop/stages/flip/stage.py", "self.acts[name]()", "pass", "desktop"),
    Fault("exchange/folders.py", "if _version(base) != VERSION:\n        for table",
          "if True:\n        for table", "own_folders"),
    # House sounds.
    Fault("sound/kit/players.py", "speed[:, :knots] *= np.exp2(bend / 1200)", "pass", "sounds"),
    Fault("sound/kit/noise.py", 'stream(0, "lasting", name)', 'stream(0, "lasting")', "sounds"),
    Fault("sound/sounds/voice.py", "MOUTH_KEYS * round(request.pitch / MOUTH_KEYS)", "60",
          "sounds verdicts"),
    Fault("sound/kit/players.py", "cents = spread * (off if", "cents = 0.5 * spread * (off if",
          "verdicts"),
    Fault("sound/kit/players.py", "levels *= _entries(rng, section.late_ms, t, count)", "pass",
          "verdicts"),
    Fault("sound/kit/players.py", "if np.min(f0) < SPLIT_HZ:", "if np.min(f0) < 0:", "verdicts"),
    Fault("sound/kit/players.py", "whole**2 + np.log(centre) ** 2 +",
          "0 * whole**2 + np.log(centre) ** 2 +",
          "verdicts"),
    Fault("sound/kit/players.py", "< SPLIT_HZ, rows.shape[2], 0)", "< 0, rows.shape[2], 0)",
          "verdicts"),
    Fault("sound/kit/players.py", "np.resize(ratios, count)", "ratios[0]", "verdicts sounds"),
    Fault("ground/lru.py", "array.copy() for array in arrays", "array for array in arrays",
          "long_days"),
    Fault("ground/lru.py", "held[id(whole)] = whole.nbytes", "little += whole.nbytes", "long_days"),
    Fault("sound/kit/players.py", "return KNOT * max(1, rate // DEFAULT_RATE)", "return KNOT",
          "verdicts"),
    Fault("sound/kit/players.py", "(size * sine(row)) @ sine(column + 0.25)",
          "(size * sine(row)) @ sine(column)", "sounds"),
    Fault("sound/kit/players.py", "loud * _powers(", "_powers(", "verdicts sounds"),
    Fault("sound/kit/players.py", "if t[-1] < AT_S[-1]:", "if False:", "parts"),
    Fault("sound/kit/strung.py", "decay.append(strings.fall[:m] * fall * NEPERS_A_DB)",
          "decay.append(strings.fall[:m] * NEPERS_A_DB)", "verdicts"),
    Fault("sound/kit/strung.py", "tone.hard[:, :count] += blow * hard[:, :count]", "pass",
          "verdicts"),
    Fault("sound/kit/strung.py", "np.add(tone.hard, tail, out=tone.hard)", "pass", "verdicts"),
    Fault("sound/kit/noise.py", 'number(LONG, request.variant, "puff", name, request.pitch)',
          'number(LONG, request.variant, "puff", name)', "verdicts"),
    Fault("sound/kit/noise.py", "int(rng.integers(noise.shape[1]))", "max(at, 0) % 40_000",
          "verdicts"),
    Fault("sound/kit/filters.py", "sweep.by_share_oct * request.share", "sweep.by_share_oct * 0.5",
          "verdicts sounds"),
    Fault("sound/kit/formants.py", "middle, below = raised, 1.35 * raised", "below = 1.35 * raised",
          "verdicts"),
    Fault("sound/part.py", "_frames_of(release_ms * (damping(note.pitch) if damping else 1), "
          "clock.rate)", "_frames_of(release_ms, clock.rate)", "verdicts"),
    Fault("sound/part.py", "bright = bright * _damped(hit.held, hit.release)", "pass", "verdicts"),
    Fault("sound/part.py", "request.velocity, request.share)  # fmt: skip",
          "request.velocity)  # fmt: skip", "parts sounds"),
    Fault("sound/part.py", "shaping = SHAPING - MOVING if instrument.follows else SHAPING",
          "shaping = SHAPING", "parts sounds"),
    Fault("sound/part.py", "count = min(noise.shape[1], hit.release)",
          "count = min(noise.shape[1], mixed.shape[1] - hit.held)", "parts"),
    Fault("sound/sounds/drums.py", "late = np.clip(0.35 * octaves, 0, 0.92)", "late = 0 * octaves",
          "verdicts"),
    Fault("sound/sounds/drums.py", "spot = stream(draw, \"spot\", plate.name)",
          "spot = made = stream(draw, \"spot\", plate.name)", "verdicts sounds"),
    Fault("sound/instrument.py", "max(map(self.damping, range(128)))", "1.0", "verdicts"),
    Fault("sound/instrument.py", "range(128)", "range(*self.register)", "verdicts"),
    Fault("loop/model/hits.py", "+ RINGS_TICKS / TICKS_PER_QUARTER * 60 / tempo", "", "bed"),
    Fault("loop/edits/bed/bed_midi.py", '"tambourine": 54', '"tambourine": 55', "bed"),
    # Chords and notes.
    Fault("theory/voicing.py", "while pitch > min(above) - 5:", "while pitch > min(above) - 2:",
          "promises chords"),
    Fault("theory/fit.py", "return chord.root == fifth and leading in chord.tones",
          "return chord.root == fifth", "chords"),
    Fault("theory/fit.py", "closes / max(1, len(around) - 1)", "0.0", "promises"),
    Fault("notes/touch.py", "drift, loud = rng.uniform(-1, 1, 2)",
          "drift, loud = rng.uniform(0, 1, 2)", "promises notes"),
    Fault("notes/touch.py", "round(note.length_ticks * way.length)", "note.length_ticks",
          "promises"),
    Fault("notes/find_chords.py", "near = ranked[0].key", "near = ranked[-1].key",
          "promises"),
    Fault("loop/edits/layers/from_notes.py", "for n in notes), default=0) // bar * bar",
          "for n in notes), default=0) * 0", "promises playing_in"),
    Fault("loop/edits/layers/from_notes.py", "for n in notes if n.start_tick - first < loop.ticks",
          "for n in notes", "promises playing_in"),
    Fault("loop/edits/layers/layer_edits.py",
          "if abs(distance) == 6 else", "if False else", "promises loop"),
    Fault("loop/edits/layers/layer_edits.py",
          "if plays if first <= a < last else inside:", "if plays:", "promises layers"),
    Fault("loop/edits/layers/layer_edits.py",
          "other = replace(layer.played.other, use=layer.played.sound)",
          "other = OtherSound(use=layer.played.sound)", "promises layers"),
    Fault("loop/model/chord.py", "starts = [s for s in starts if s < self.end_tick] or [first]",
          "starts = list(starts)", "promises"),
    Fault("loop/model/loop.py", "if layer.source.end_tick > self.ticks:", "if False:", "layers"),
    Fault("loop/model/loop.py",
          "x.parked or x.mute or x.group in off", "x.parked or x.mute", "layers "
          "hearing"),
    Fault("loop/model/source.py",
          "own = {i: span.touch for i, span in enumerate(spans) if span.touch "
          "is not None}", "own = {}", "chord_edits"),
    # Files.
    Fault("loop/model/newer.py", 'return f"={item[\'id\']}" if named else f"#{number}"',
          'return f"#{number}"', "newer"),
    Fault("loop/files/storage.py", "if head.schema > SCHEMA >= head.needs:",
          "if head.schema > SCHEMA:", "newer"),
    Fault("loop/files/storage.py", 'lens["voices"] = 0', "pass", "golden hearing"),
    Fault("loop/files/storage.py", "sorted(carried - clips_of(document))", "()", "own_sounds"),
    Fault("loop/files/recovery.py", "- self._safe", "", "own_sounds"),
    Fault("audio/clips.py", "PRIVATE), \"wb\")", "0o644), \"wb\")", "own_sounds"),
    Fault("ground/reading.py", "left -= counted.size", "pass", "hostile"),
    Fault("loop/model/history.py",
          "kept = self.moments[: self.at + 1]", "kept = self.moments", "loop"),
    # Treatments.
    Fault("texture/ride.py", "size = max(1, min(int(SMOOTH_S * context.rate), n // 2)) | 1",
          "size = 1", "promises"),
    Fault("texture/treatment.py", "for t in acting(line) if t.blend >= 0.5)",
          "for t in acting(line))", "promises rides treatments"),
    Fault("texture/context.py", "cuts=tuple(round(cut * ratio) for cut in self.cuts),", "",
          "promises"),
    Fault("texture/kinds/windows.py",
          "_slow_picture, rumbles=True", "_slow_picture", "texture_stage"),
    Fault("texture/context.py", "self.tempo, self.cuts, self.passes", "self.tempo, (), self.passes",
          "promises nodes"),
    Fault("texture/context.py", "self.exact_frames, self.tempo, self.cuts",
          "self.exact_frames, 0, self.cuts", "nodes render"),
    Fault("texture/running.py", "start, count = start - reach, count + 2 * reach",
          "start, count = start, count", "nodes more_treatments"),
    Fault("texture/running.py", "still = msgspec.structs.replace(self.treatment, rides=(), "
          "blend=1.0)", "still = msgspec.structs.replace(self.treatment, rides=())", "promises"),
    Fault("texture/frames.py", "np.clip(means, *ends)", "means", "more_treatments"),
    # Rendering.
    Fault("render/plan/nodes.py", "difference * gain", "difference", "nodes render"),
    Fault("render/plan/nodes.py", "t.version, t.blend, t.draw, t.settings, t.rides",
          "t.version, t.blend, t.draw, t.settings", "nodes rides"),
    Fault("render/plan/nodes.py", "np.where(shares <= 1e-6, 0.0, gain)", "gain", "rides"),
    Fault("render/plan/plan.py", "+ tail_s(_group_line(loop, layer), loop.tempo)", "", "promises"),
    Fault("render/play/player.py", "start, end = (part.start, part.end) if part else (0.0, 1.0)",
          "start, end = 0.0, 1.0", "promises player"),
    Fault("render/measure/match.py", "one.true_peak_db", "0.0", "hearing"),
    Fault("sound/own.py", 'content=f"{own.plays},{low:g},{high:g}:"', 'content=""', "nodes"),
    Fault("sound/part.py", "self.instrument.identity, self.settings, str(self.clock.tempo)",
          'self.instrument.identity, (), str(self.clock.tempo)', "nodes render"),
    Fault("texture/running.py", "(t.kind, t.version, t.blend, t.draw, t.settings) for t, _, _",
          "(t.kind, t.version, t.draw, t.settings) for t, _, _", "ahead"),
    Fault("render/plan/nodes.py", "runs.answer(former.out, difference, start)",
          "runs.answer(former.out, 0 * difference, start)", "ahead"),
    Fault("sound/part.py", "turns = range(first - self.frames, length, self.frames)",
          "turns = range(first, length, self.frames)", "parts ahead"),
    Fault("render/engine/cache.py", "if key in needed]:", "if key not in needed]:", "render"),
    Fault("render/play/player.py", "if into < len(self.patch):", "if into <= len(self.patch) // 2:",
          "player"),
    Fault("ground/lru.py", "if value is not None and serves(value):", "if value is not None:",
          "render parts"),
    Fault("desktop/session/hearing/transport.py",
          "if sum(self._dry) < DRY_LOOKS", "if not sum(self._dry)",
          "settings"),
    Fault("audio/loudness.py", "[low[0], -2 * low[0], low[0], *low]", "[1.0, -2.0, 1.0, *low]",
          "audio"),
    Fault("audio/loudness.py", "K_RING_S = 0.07", "K_RING_S = 0.02", "quick"),
    Fault("audio/loudness.py", "NEAR * OVER + 1) / OVER", "NEAR * OVER + 1) / 1", "audio"),
    Fault("render/engine/engine.py", "self.tones).key, gains)", "self.tones).key)", "render"),
    # What is written.
    Fault("deliver/making.py", "key = loop.sounding_key if treated else loop.key",
          "key = loop.key", "promises"),
    Fault("deliver/making.py", "root_pitch=60 + key.pc,", "root_pitch=60,", "promises"),
    Fault("deliver/making.py", "tempo = loop.sounding_tempo if treated else loop.tempo",
          "tempo = loop.tempo", "promises"),
    Fault("style/sketch.py", "options = [t for t in options if t != first] or options", "pass",
          "promises"),
    Fault("style/sketch.py", "options = list(grammar.next[tokens[-1]])",
          "options = list(grammar.next)", "promises style_and_cli"),
    Fault("audio/looped.py", "start %= n\n    if start + count <= n:",
          "start = max(0, start)\n    if start + count <= n:", "audio ahead"),
    # What is handed over.
    Fault("deliver/checks/sound.py", "float(bend[near - 2 : near + 1].max())", "float(bend[0])",
          "checks"),
    Fault("deliver/checks/sound.py", "gain = -np.ceil(by_db * 10) / 10", "gain = -np.floor(by_db)",
          "checks"),
    Fault("deliver/checks/sound.py", "lost = np.where(counts, 10 * np.log10(ratio), 0.0)",
          "lost = 10 * np.log10(ratio)", "checks"),
    Fault("deliver/checks/sound.py", "if heard_there else \"fine\"", "if True else \"fine\"",
          "checks"),
    Fault("deliver/checks/sound.py", "> loud * 10 ** (-12 / 20):", "> 0:", "checks"),
    Fault("deliver/checks/sound.py", "push += target - integrated_lufs(made, heard.rate)", "pass",
          "checks"),
    Fault("deliver/checks/sound.py", "gain = min(target - found, spec.MOST_PEAK_DBTP - "
          "heard.peak_db)", "gain = target - found", "checks"),
    Fault("deliver/checks/music.py", "for times in OCTAVES)", "for times in (1.0,))", "checks"),
    Fault("deliver/checks/music.py", "{*key.scale, (key.pc + 11) % 12} if key.mode == \"minor\" "
          "else set(key.scale)", "set(key.scale)", "checks"),
    Fault("deliver/checks/music.py", "if note.start_tick - x.length_ticks < x.start_tick < end]",
          "if False]", "checks"),
    Fault("deliver/checks/contents.py", "and not cleaned and", "and", "checks"),
    Fault("deliver/checks/contents.py", "if top < spec.CLIPPED_LEVEL:", "if False:", "checks"),
    Fault("deliver/checks/contents.py", "return to_db(floor) - to_db(loud) if flat > spec.NOISY "
          "else None", "return to_db(floor) - to_db(loud)", "checks"),
    Fault("deliver/licences.py", "for pattern, why in AGAINST:", "for pattern, why in ():",
          "rights"),
    Fault("deliver/rights.py", "if one.in_the_way and (free or not one.licence)]",
          "if one.in_the_way]", "rights"),
    Fault("deliver/rights.py", "confirmed=had.confirmed and entry.confirmed,", "confirmed=True,",
          "rights checks"),
    Fault("deliver/rights.py", "for one in loop.heard() if not layers or one.id in layers]",
          "for one in loop.heard()]", "rights"),
    Fault("deliver/making.py", "if gain > 0 and sound.apart:", "if False:", "delivery"),
    Fault("deliver/making.py", "return min(wanted, MOST_PEAK_DBTP - true_peak_db(audio))",
          "return wanted", "delivery"),
    Fault("deliver/making.py", "bare = replace(layer, line=(), group=\"\")", "bare = layer",
          "delivery"),
    Fault("deliver/parcels.py", "shift = (key.pc - loop.key.pc + 6) % 12 - 6", "shift = 0",
          "delivery"),
    Fault("deliver/one_shots.py", "if own is not None and any(one.clip in kept_back for one in "
          "own.recordings):", "if False:", "delivery rights"),
    Fault("deliver/names.py", "else out.rstrip(JOINS)", "else out", "delivery"),
    Fault("audio/sound_file.py", "steps -= rng.random((frames, 2), np.float32)", "pass",
          "delivery"),
    Fault("audio/sound_file.py", "page.serial = SERIAL", "pass", "delivery"),
    Fault("audio/wav.py", "head = (0, 0, round(1e9 / rate), about.root_pitch, 0, 0, 0, 1, 0)",
          "head = (0, 0, round(1e9 / rate), 60, 0, 0, 0, 1, 0)", "delivery promises"),
    Fault("deliver/demo_sound.py", "body[:, length:] *= np.sqrt(1 - rise**2)",
          "body[:, length:] *= 1 - rise", "demo_file"),
    Fault("deliver/demo_sound.py", "[:: demo.tag_every]:", ":", "demo_file"),
    Fault("loop/model/demo_file.py",
          "first.sort(key=lambda one: one.role in (\"bass\", \"grain\"))",
          "pass", "demo_file"),
    Fault("deliver/kit_writer.py", "if had.looked.problem or content_of(path) != had.content:",
          "if had.looked.problem:", "kit"),
    Fault("deliver/kit_writer.py", "if name in done:  # what", "if False:  # what", "kit"),
    Fault("deliver/kit.py", "(note.pitch - root) % 12) for layer", "note.pitch % 12) for layer",
          "kit"),
    # The arrangement.
    Fault("loop/edits/arranging/arranging.py",
          "bed = replace(bed, lanes=lanes, group=replace(bed.group, mute=not "
          "section.bed))", "bed = replace(bed, lanes=lanes)", "arranging"),
    Fault("loop/edits/arranging/arranging.py",
          "layer.parked and not part.on", "layer.parked", "arranging"),
    Fault("loop/edits/arranging/arranging.py", "made = replace(treatment, id=new_id(\"t\", taken))",
          "made = treatment", "arranging"),
    Fault("loop/edits/arranging/arranging.py",
          "if minutes > MOST_MINUTES:", "if False:", "arranging"),
    Fault("loop/edits/arranging/arranging.py",
          "if reach > beats:", "if False:", "arranging arrange_stage"),
    Fault("loop/edits/arranging/arranging.py",
          "replace(one, copied_from=\"\") if one.copied_from == section_id "
          "else one", "one", "arranging"),
    Fault("loop/edits/arranging/arranging.py",
          "heard = kept[-1].id if kept else \"\"", "pass", "trial_voice"),
    Fault("loop/model/section_rides.py", "return replace(loop, level_db=loop.level_db + value)",
          "return replace(loop, level_db=value)", "timeline arrange_stage"),
    Fault("loop/model/section_rides.py", "places |= {point.at for point in ride.points}", "pass",
          "timeline"),
    Fault("loop/model/section_rides.py", "return replace(stands, blend=BLEND.to_share(value))",
          "return stands", "timeline"),
    Fault("loop/files/storage.py", "own |= {clip for one in document.arrangement.takes for clip in "
          "one.clips}", "pass", "trial_voice"),
    Fault("loop/files/storage.py", "return {name: one for name, one in found.items() if one != "
          "BESIDE[name]()}", "return {}", "arranging"),
    Fault("style/form.py", "kept = max(1, round(SHARES[of.who] * len(able)))", "kept = len(able)",
          "arranging"),
    Fault("style/form.py", "bed=of.drums != \"none\"", "bed=True", "arranging arrange_journeys"),
    Fault("style/form.py", "section = _changed(section, loop, rng) if of.change else section",
          "pass", "arranging arrange_journeys"),
    Fault("style/form.py", "key=relative_of(loop.key) if of.relative else None", "key=None",
          "arranging"),
    Fault("style/sums.py", "return (*finish.line[:-1], finish.line[-1].set(PUSH, push_db))",
          "return finish.line", "arranging"),
    Fault("style/variations.py", "if layer.id not in heard and layer.flipped is None",
          "if layer.flipped is None", "arranging"),
    Fault("style/marks/met.py", "(kind.needs_form and not arranged)", "False", "form_marks"),
    Fault("style/marks/form.py", "if one.key is not None and one.key != view.loop.key",
          "if one.key != view.loop.key", "form_marks"),
    Fault("render/forms/timeline.py", "rest = _add(body, tail)", "rest = tail", "timeline"),
    Fault("render/forms/timeline.py", "tail, going_on = silence(0), None", "pass", "timeline"),
    Fault("render/forms/timeline.py", "_mend(body, frames)", "pass", "timeline"),
    Fault("render/forms/timeline.py", "_mend(audio, join)", "pass", "timeline"),
    Fault("render/forms/timeline.py", "missing[:, None] * _falling(count)", "0", "timeline"),
    Fault("render/forms/timeline.py",
          "out += audio[:, :frames] * weight", "out = audio[:, :frames]",
          "timeline"),
    Fault("render/forms/timeline.py", "loop, passes = span.loop, span.turn + span.passes",
          "loop, passes = span.loop, span.passes", "timeline"),
    Fault("render/forms/timeline.py",
          "rung = _add(now.audio, rung)", "rung = silence(0)", "timeline"),
    Fault("render/forms/timeline.py",
          "first = before[:, -lead:] if before.shape[1] else silence(lead)",
          "first = silence(lead)", "timeline"),
    Fault("render/forms/timeline.py", "for hit in other.hits if end - bar <= hit.tick < end]",
          "for hit in other.hits if hit.tick < bar]", "timeline"),
    Fault("render/forms/seams.py", "made[:, -edge:] += (piece[:, -edge:] - made[:, -edge:]) * fade",
          "pass", "timeline"),
    Fault("render/forms/seams.py", "way = way[::-1] if opens else way", "pass", "timeline"),
    Fault("render/forms/seams.py",
          "audio[:, :frames][:, ::-1] * rises", "audio[:, :frames] * rises",
          "timeline"),
    Fault("render/forms/seams.py", "out *= swell", "pass", "timeline"),
    Fault("render/engine/engine.py", "if not aside:", "if True:", "ahead timeline arrange_stage"),
    Fault("render/engine/engine.py", "self._making[node.key] = threading.Event()",
          "self._making[node.key] = threading.Event(); self._making[node.key].set()", "nodes"),
    Fault("render/forms/trial_voice.py", "at = round(take.at_s * rate)", "at = 0", "trial_voice"),
    Fault("render/forms/trial_voice.py", "at += count", "pass", "trial_voice"),
    Fault("deliver/arranged.py", "out[:, : part.shape[1]] -= part", "pass", "timeline"),
    Fault("desktop/session/work/arranged.py",
          "self._session.player.seek(self.share_of(at, was.inside))",
          "pass", "arrange_stage"),
    Fault("desktop/session/work/arranged.py", "player.seek(self.share_of(place.at, place.inside))",
          "pass", "arrange_stage"),
    Fault("render/play/player.py", "position = round(share *", "position = int(share *", "player"),
    Fault("desktop/session/work/instead.py", "return round(self._session.player.share *",
          "return int(self._session.player.share *", "demo_file"),
    Fault("desktop/session/work/arranged.py", "frame = round(share * self._starts[-1])",
          "frame = share * self._starts[-1]", "arrange_stage"),
    Fault("desktop/session/work/arranged.py",
          "first = self._starts[at] + (frame - self._starts[at]) // "
          "turn * turn", "first = self._starts[at]", "arrange_stage"),
    Fault("desktop/session/work/arranged.py", "return match.one if self.without else match.other",
          "return 1.0", "arrange_stage"),
    Fault("desktop/session/hearing/hearing.py", "self._waits = True", "pass", "arrange_stage"),
    Fault("desktop/session/hearing/transport.py",
          "share = self.player.share\n        return self.long",
          "share = self.player.share\n        return False and self.long", "arrange_stage"),
)  # fmt: skip


def is_seen(fault: Fault) -> tuple[bool, str]:
    """Put a fault into a copy and run its tests; say whether it was seen, and in which way."""
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder)
        for name in COPIED:
            shutil.copytree(HOME / name, copy / name, ignore=shutil.ignore_patterns("__pycache__"))
        shutil.copy(HOME / "pyproject.toml", copy)
        path = copy / "cloudrift" / fault.file
        text = path.read_text()
        if text.count(fault.right) != 1:
            return False, f"the right line is there {text.count(fault.right)} times"
        path.write_text(text.replace(fault.right, fault.wrong))
        tests = [f"tests/test_{name}.py" for name in fault.tests.split()]
        known = {"PYTHONPATH": folder, "PYTHONDONTWRITEBYTECODE": "1",
                 "QT_QPA_PLATFORM": "offscreen"}  # fmt: skip
        try:
            run = subprocess.run(
                [sys.executable, "-m", "pytest", "-x", "-q", "-p", "no:cacheprovider", *tests],
                cwd=copy, env=os.environ | known, capture_output=True, text=True, check=False,
                timeout=LONGEST_S,
            )  # fmt: skip
        except subprocess.TimeoutExpired:
            return True, "its tests did not end"
    failed = [line for line in run.stdout.splitlines() if line.startswith(("FAILED", "ERROR"))]
    # Ended by a signal: what nobody caught in a slot ends a test run at once.
    return run.returncode == 1 or run.returncode < 0, (failed or [""])[0].removeprefix(
        "FAILED "
    ).split(" - ")[0]


def main(arguments: Sequence[str] | None = None) -> int:
    """Try all faults, or those in files that are named; return 1 where one is not seen."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("only", nargs="?", default="", help="only faults in files of this name")
    only = parser.parse_args(arguments).only
    faults = [fault for fault in FAULTS if only in fault.file]
    began = time.monotonic()
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        found = list(pool.map(is_seen, faults))
    for fault, (seen, how) in zip(faults, found, strict=True):
        print(f"{'seen' if seen else 'UNSEEN':6}  {fault.file}: {fault.wrong!r}  {how}")
    count = sum(seen for seen, _ in found)
    print(f"{count} of {len(faults)} faults were seen ({count / len(faults):.0%}) in "
          f"{time.monotonic() - began:.0f} s")  # fmt: skip
    return 0 if count == len(faults) else 1


if __name__ == "__main__":
    sys.exit(main())
