"""Two loops compared at the same loudness: what each is turned by, so that neither is clipped."""

from dataclasses import dataclass

from cloudrift.audio.buffers import to_gain
from cloudrift.ground.words import number
from cloudrift.render.engine.engine import Loudness

SILENT_LUFS = -69.0  # the gate of BS.1770 lets nothing below -70 LUFS count


@dataclass(frozen=True, kw_only=True)
class Match:
    """Gains in dB of the one side (bare, or then) and the other (treated, or now).

    ``silent`` names the sides that cannot be matched because nothing of them is heard.
    """

    one_db: float = 0.0
    other_db: float = 0.0
    silent: tuple[bool, bool] = (False, False)

    @property
    def equal(self) -> bool:
        """Whether both are equally loud at these gains."""
        return not any(self.silent)

    @property
    def one(self) -> float:
        """The gain of the one side as a factor."""
        return to_gain(self.one_db)

    @property
    def other(self) -> float:
        """The gain of the other side as a factor."""
        return to_gain(self.other_db)

    def says(self, one: str, other: str) -> str:
        """Say in words by how much which side is turned."""
        if not self.equal:
            if all(self.silent):
                return "not matched: both are silent"
            return f"not matched: {one if self.silent[0] else other} is silent"
        if self.other_db > -0.05:
            return f"matched: {one} {number(self.one_db, '+.1f')} dB"
        return (
            f"matched: {one} {number(self.one_db, '+.1f')}, {other} "
            f"{number(self.other_db, '+.1f')} dB"
        )


def matched(one: Loudness | None, other: Loudness | None) -> Match:
    """Return the gains at which two loops are equally loud; 0 dB while either is not known.

    The other side stays as it is where it can. Where the one side would have to be raised over
    full scale (true peak), it is raised as far as it goes, and the other is turned down by the
    rest: a clipped side would be no fair comparison.
    """
    if one is None or other is None:
        return Match()
    silent = (one.lufs < SILENT_LUFS, other.lufs < SILENT_LUFS)
    if any(silent):
        return Match(silent=silent)
    wanted, room = other.lufs - one.lufs, -one.true_peak_db
    if wanted <= room:
        return Match(one_db=wanted)
    return Match(one_db=room, other_db=room - wanted)
