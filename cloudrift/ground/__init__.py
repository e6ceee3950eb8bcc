"""What every floor stands on: errors, draws and described settings. No music, no sound, no I/O."""

from cloudrift.ground.draws import stream
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.settings import Field, Settings, SettingsSpec

__all__ = ["CloudriftError", "Field", "Settings", "SettingsSpec", "stream"]
