"""Which sound plays, in which design, how it is set."""

import msgspec
from msgspec.structs import replace

from cloudrift.ground.settings import Field, Settings
from cloudrift.sound.catalogue import early_level_db, find_design, find_sound, unknown_sound
from cloudrift.sound.instrument import Instrument
from cloudrift.sound.own import OwnSound, with_todays_design


class SoundUse(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Which sound a layer plays, of which design, with which settings off their defaults.

    An own sound is carried along, recordings and all. One that is not known here, or a newer
    design, is kept as it is, and silent.
    """

    name: str
    version: int = 1
    settings: Settings = ()
    own: OwnSound | None = None

    def __post_init__(self) -> None:
        if self.known:
            self.of.spec.check(self.settings, f"sound {self.name}")

    @property
    def known(self) -> bool:
        """Whether this program knows it, in its design."""
        return self.own.known if self.own else find_design(self.name, self.version) is not None

    @property
    def rings_s(self) -> float:
        """How long a note goes on at most when it is let go, in seconds."""
        return self.of.longest_release_ms(self.of.spec.full(self.settings)) / 1000

    @property
    def fields(self) -> tuple[Field, ...]:
        """What can be set of it: nothing of one that is not known."""
        return self.of.spec.fields if self.known else ()

    @property
    def of(self) -> Instrument:
        """The instrument, in the design that the loop was made with."""
        if self.own:
            return self.own.instrument
        return find_design(self.name, self.version) or unknown_sound(self.name, self.version)

    def in_todays_design(self) -> tuple["SoundUse", float]:
        """Return it with today's design of its sound, and how many dB louder it was before.

        Settings that the design has no more go. It is itself where its design is not an early one.
        """
        if self.known:  # nearly always: nothing is looked up
            return self, 0.0
        if self.own:
            own, louder_db = with_todays_design(self.own)
            if own is self.own:
                return self, 0.0
            spec = own.instrument.spec
            return replace(self, own=own, settings=spec.what_is_left(self.settings)), louder_db
        louder = early_level_db(self.name, self.version)
        if louder is None:
            return self, 0.0
        today = find_sound(self.name)
        settings = today.spec.what_is_left(self.settings)
        return replace(self, version=today.version, settings=settings), louder
