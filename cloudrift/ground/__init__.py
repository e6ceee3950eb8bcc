"""What every floor stands on: errors, draws and described settings. No music, no sound, no I/O."""

from cloudrift.ground.draws import rng_for
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.settings import Field, Settings, SettingsSpec

__all__ = ["CloudriftError", "Field", "Settings", "SettingsSpec", "rng_for"]
