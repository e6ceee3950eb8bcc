"""Loop to audio: the plan of what to compute, the cache, the engine, and the player.

Nothing here knows of windows; pictures and files ask the same engine as the ears do.
"""

from cloudrift.loop.edits import bare_of
from cloudrift.render.engine import Engine
from cloudrift.render.player import Player
from cloudrift.render.variants import without_line

__all__ = ["Engine", "Player", "bare_of", "without_line"]
