"""The player: hands whole loops to the speaker, changes them in place, never stops for an edit.

``pull`` is called from the speaker's thread. It only copies and cross-fades; whatever it reads is
replaced as a whole by the other threads, so it takes no lock.
"""

import time
from collections import deque
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo, raised_cosine
from cloudrift.render.play.take import (
    FADE_S,
    MOST_AT_ONCE,
    PIECE,
    FadingTake,
    LongerTail,
    OneShot,
    Stamp,
    Take,
    as_played,
    how_alike,
)

PERIODS = 3  # that the device holds
# Rendering threads hand Python's lock on this often; each array step of the callback may wait for
# it once, so the usual 5 ms would add up to a gap.
SWITCH_INTERVAL_S = 0.0003


class Player:
    """Plays takes. Everything that would be a step in the sound becomes a 10 ms cross-fade."""

    def __init__(self, rate: int) -> None:
        self.rate = rate
        self._fade = int(FADE_S * rate)
        self._rise = raised_cosine(self._fade)[:, None]
        fall = self._rise[::-1]
        self._squares, self._product = self._rise**2 + fall**2, self._rise * fall
        self._norm = np.empty_like(self._rise)
        self._new_gain, self._old_gain = self._rise.copy(), fall.copy()
        self._scratch = np.empty((max(PIECE, self._fade), 2), np.float32)
        self._pages = deque(np.empty((MOST_AT_ONCE, 2), np.float32) for _ in range(2))
        self._wanted: Take | None = None
        self._ready: tuple[Stereo, float, NDArray[np.float32]] | None = None  # to be loaded next
        self._seek: float | None = None
        self._left = 0  # bars into a longer form, where a shorter one has taken its place
        self._playing = False
        self._take: Take | None = None  # what the speaker's thread plays now
        self._position = 0
        self._ghost: FadingTake | None = None
        self._fade_left = 0
        # To strike, to go on in another's place, or the group to silence.
        self._incoming: deque[OneShot | LongerTail | str] = deque()
        self._struck: list[OneShot] = []
        self._loop_gain = 1.0
        self.callback_s: deque[float] = deque(maxlen=100_000)
        self.waits_s: deque[float] = deque(maxlen=100_000)  # from one pull to the next
        self.stamp = Stamp(time.perf_counter(), 0, -1, 0)
        self._handed = 0
        self.gaps = 0  # pulls that came after all that had been handed out was played
        self._pulled_at = self._lasts_until = 0.0

    # --- from the interface -----------------------------------------------------------------

    def get_ready(self, audio: Stereo, gain: float = 1.0) -> None:
        """Make ready what will be loaded, on a thread that has the time."""
        self._ready = (audio, gain, as_played(audio, gain))

    def load(self, audio: Stereo, gain: float = 1.0, bars: int = 0) -> None:
        """Play another rendering from the same place in the loop on.

        Where both have ``bars``, and not as many, that is the same bar of it: a long form goes on
        in the part of it that was left.
        """
        ready, self._ready = self._ready, None
        same = ready is not None and ready[0] is audio and ready[1] == gain
        wave = ready[2] if ready is not None and same else as_played(audio, gain)
        part = self._wanted
        start, end = (part.start, part.end) if part else (0.0, 1.0)
        self._want(Take(wave=wave, start=start, end=end, bars=bars))

    def patch(self, audio: Stereo, start: int, gain: float = 1.0) -> None:
        """Play a stretch from a frame on in another rendering; the rest stays as it was loaded."""
        if self._wanted is not None:
            self._want(replace(self._wanted, patch=as_played(audio, gain), patch_at=start))

    def _want(self, take: Take) -> None:
        """Let it be played next; how alike it is about here is found before the speaker asks."""
        now = self._take
        if now is not None and len(now.wave) == len(take.wave):
            take = replace(
                take, alike=how_alike(now, self._position, take, self._position, self._fade)
            )
        self._wanted = take

    def hear_part(self, start: float, end: float) -> None:
        """Let only a part of the loop turn (shares of its length); all of it for 0 to 1."""
        if self._wanted is not None:
            self._wanted = replace(self._wanted, start=start, end=end, alike=None)

    def play(self) -> None:
        """Go on from where it stands."""
        self._playing = True

    def stop(self) -> None:
        """Fade out and stand still."""
        self._playing = False

    def seek(self, share: float) -> None:
        """Go to a place in the loop (0-1)."""
        self._seek = min(max(share, 0.0), 1.0)

    def strike(
        self, audio: Stereo, group: str, *, alone: bool = False, more: bool = False
    ) -> OneShot:
        """Play something once, now, over the loop; ``alone``: the loop is silent under it.

        What still rings of the same group fades out first. The loop goes on in its time. ``more``
        says that it will ``go_on``. What is returned tells when it ``began``.
        """
        struck = OneShot(np.ascontiguousarray(audio.T), group, alone, open=more)
        self._incoming.append(struck)
        return struck

    def go_on(self, audio: Stereo, group: str, *, more: bool = False) -> None:
        """Let what rings of a group go on as other audio that begins with it, from where it is.

        ``more`` says that this will go on, too.
        """
        self._incoming.append(LongerTail(np.ascontiguousarray(audio.T), group, more))

    def hush(self, group: str) -> None:
        """Fade out what rings of a group."""
        self._incoming.append(group)

    @property
    def striking(self) -> bool:
        """Whether anything rings over the loop."""
        return bool(self._struck or self._incoming)

    @property
    def handing(self) -> float:
        """The frame of all handed out that the speaker is at, were there no buffers after it."""
        stamp = self.stamp
        return stamp.handed + (time.perf_counter() - stamp.when_s) * self.rate

    @property
    def playing(self) -> bool:
        """Whether it is meant to sound."""
        return self._playing

    @property
    def share(self) -> float:
        """Where it is in the loop (0-1)."""
        if self._seek is not None:
            return self._seek
        take = self._take
        return self._position / len(take.wave) if take else 0.0

    @property
    def part(self) -> tuple[float, float]:
        """Which part turns (shares)."""
        return (self._wanted.start, self._wanted.end) if self._wanted else (0.0, 1.0)

    # --- from the speaker's thread ------------------------------------------------------------

    def pull(self, frames: int) -> NDArray[np.float32]:
        """Return the next frames, (frames, 2), never outside -1 to 1.

        They are read before the next pull but one: the memory is used again.
        """
        began = time.perf_counter()
        self._keep_time(began, frames / self.rate)
        self._follow()
        self._take_in()
        take = self._take
        at, long = (-1, 0) if take is None else (self._position, len(take.wave))
        self.stamp = Stamp(began, self._handed, at, long)
        self._handed += frames
        out = self._undisturbed(frames)
        if out is None:
            out = self._assembled(frames)
        self.callback_s.append(time.perf_counter() - began)
        return out

    def _keep_time(self, now: float, lasts: float) -> None:
        """Count a gap where this pull comes too late: the device plays what it has, then nothing.

        It holds PERIODS pulls; one that comes while the last of them is played is in time.
        """
        if self._pulled_at:
            self.waits_s.append(now - self._pulled_at)
            if now > self._lasts_until + (PERIODS - 1) * lasts:
                self.gaps += 1
                self._lasts_until = now
        self._lasts_until = max(self._lasts_until, now) + lasts
        self._pulled_at = now

    def reset_clock(self) -> None:
        """Begin to keep time again: another device pulls from now on."""
        self._pulled_at = self._lasts_until = 0.0

    def _undisturbed(self, frames: int) -> NDArray[np.float32] | None:
        """Return a view of the loop where nothing begins, ends or fades: no array work at all.

        Each step on an array hands Python's lock to the rendering threads and may wait for it.
        """
        take = self._take
        if take is None or self._ghost is not None or self._fade_left:
            return None
        if self._struck or self._loop_gain < 1.0:
            return None
        end = self._position + frames
        if end >= take.bounds[1]:
            return None
        out = take.read(self._position, frames)
        if len(out) < frames:
            return None
        self._position = end
        return out

    def _assembled(self, frames: int) -> NDArray[np.float32]:
        if frames <= MOST_AT_ONCE:  # nothing is allocated: that may wait for other threads, too
            self._pages.rotate()
            out = self._pages[0][:frames]
            out.fill(0.0)
        else:
            out = np.zeros((frames, 2), np.float32)
        for start in range(0, frames, PIECE):
            piece = out[start : start + PIECE]
            still = self._undisturbed(len(piece))
            if still is not None:  # a fade has ended
                piece[:] = still
                continue
            self._add_loop(piece)
            self._add_struck(piece)
            np.clip(piece, -1.0, 1.0, out=piece)
        return out

    def _add_loop(self, out: NDArray[np.float32]) -> None:
        """Add the take, and the one that fades out after it."""
        at = 0
        while at < len(out):
            count = len(out) - at
            if self._take is not None:
                count = min(count, self._take.bounds[1] - self._position)
            stretch = out[at : at + count]
            self._add_take(stretch)
            self._add_ghost(stretch)
            at += count
            if self._take is not None and self._position >= self._take.bounds[1]:
                self._turn(self._take)

    def _take_in(self) -> None:
        while self._incoming:
            new = self._incoming.popleft()
            group = new if isinstance(new, str) else new.group
            ringing = [old for old in self._struck if old.group == group and old.fading < 0]
            for old in ringing:
                old.fading = self._fade
            if isinstance(new, OneShot):
                new.began = self._handed
                self._struck.append(new)
            elif isinstance(new, LongerTail) and ringing:
                last = ringing[-1]
                self._struck.append(
                    OneShot(
                        new.wave,
                        group,
                        last.alone,
                        position=last.position,
                        rising=self._fade,
                        open=new.open,
                    )
                )

    def _add_struck(self, out: NDArray[np.float32]) -> None:
        """Add what is played once, the loop giving way to what is to be heard alone."""
        wanted = 0.0 if any(s.alone and s.fading < 0 for s in self._struck) else 1.0
        if wanted != self._loop_gain or wanted < 1.0:
            step = np.sign(wanted - self._loop_gain) / self._fade
            gains = self._loop_gain + step * np.arange(1, len(out) + 1)
            gains = np.clip(gains, 0.0, 1.0).astype(np.float32)
            out *= gains[:, None]
            self._loop_gain = float(gains[-1])
        for struck in self._struck:
            use = min(len(out), len(struck.wave) - struck.position)
            if use <= 0:  # it has ended, and waits for what it goes on as
                struck.position += len(out)
                struck.fading = min(struck.fading, 0)
                continue
            if struck.fading >= 0:
                use = min(use, struck.fading)
            part = struck.wave[struck.position : struck.position + use]
            if struck.rising:
                done = self._fade - struck.rising
                gain = np.ones((len(part), 1), np.float32)
                gain[: struck.rising] = self._rise[done : done + len(part)]
                part, struck.rising = part * gain, max(0, struck.rising - len(part))
            if struck.fading >= 0:
                done = self._fade - struck.fading
                part = part * self._rise[::-1][done : done + use]
                struck.fading -= use
            out[:use] += part
            struck.position += len(out) if struck.open else use
        self._struck = [s for s in self._struck if not s.over]

    def _follow(self) -> None:
        """Take over what the interface wants now; what sounded until now becomes the ghost."""
        if self._ghost is not None or self._fade_left:
            return  # one change at a time: the next block comes within milliseconds
        wanted = self._wanted if self._playing else None
        seek, self._seek = self._seek, None
        if wanted is self._take and (seek is None or wanted is None):
            self._seek = seek
            return
        share = seek
        if share is None:
            share = self._share_in(wanted) if wanted is not None else self.share
        if self._take is not None:
            self._ghost = FadingTake(self._take, self._position, 0)
        stays = wanted is not None and seek is None and self._take is not None
        self._take = wanted
        if wanted is None:
            self._seek = share  # standing still keeps its place
            self._old_gain[:] = self._rise[::-1]
            return
        first, last = wanted.bounds
        position = round(share * len(wanted.wave))  # a share may lie a hair before its frame
        self._position = position if first <= position < last else first
        self._begin_fade(wanted.alike if stays and position == self._position else None)

    def _share_in(self, wanted: Take) -> float:
        """Where in another take the place is that is heard now."""
        now = self._take
        bars = 0 if now is None else now.bars
        if not bars or not wanted.bars or bars == wanted.bars:
            return self.share
        bar = self.share * bars
        if bars > wanted.bars:
            self._left = int(bar // wanted.bars) * wanted.bars
            return bar % wanted.bars / wanted.bars
        return (self._left + bar) % wanted.bars / wanted.bars

    def _begin_fade(self, alike: float | None = None) -> None:
        """Choose the gains of a cross-fade so that the power stays, however alike both sounds are.

        An edit mostly leaves a sound as it was: of two that are the same, gains that add up to one
        keep the level; of two that have nothing in common, those whose squares do.
        """
        self._fade_left = self._fade
        rise, fall = self._rise, self._rise[::-1]
        take, ghost = self._take, self._ghost
        if alike is None:
            alike = 1.0
            if take is not None and ghost is not None:
                alike = how_alike(ghost.take, ghost.position, take, self._position, self._fade)
        norm = np.multiply(self._product, np.float32(2 * max(alike, 0.0)), out=self._norm)
        norm += self._squares
        np.sqrt(norm, out=norm)
        np.divide(rise, norm, out=self._new_gain)
        np.divide(fall, norm, out=self._old_gain)

    def _turn(self, take: Take) -> None:
        """Go back to the start. A whole loop has no seam; a part of one is cross-faded over it."""
        first, last = take.bounds
        if last - first < len(take.wave):
            self._ghost = FadingTake(take, last, 0)
            self._position = first
            self._begin_fade()
        self._position = first

    def _add_take(self, out: NDArray[np.float32]) -> None:
        take, count = self._take, len(out)
        if take is None:
            return
        out += take.around(self._position, count)
        self._position += count
        if self._fade_left:
            done = self._fade - self._fade_left
            use = min(self._fade_left, count)
            out[:use] *= self._new_gain[done : done + use]
            self._fade_left -= use

    def _add_ghost(self, out: NDArray[np.float32]) -> None:
        ghost = self._ghost
        if ghost is None:
            return
        use = min(self._fade - ghost.done, len(out))
        fall = self._old_gain[ghost.done : ghost.done + use]
        part = np.multiply(ghost.take.around(ghost.position, use), fall, out=self._scratch[:use])
        out[:use] += part
        done = ghost.done + use
        self._ghost = (
            FadingTake(ghost.take, ghost.position + use, done) if done < self._fade else None
        )
