"""Loop to audio: the plan of what to compute, the cache, the engine, and the player.

Nothing here knows of windows; pictures and files ask the same engine as the ears do.
"""

from cloudrift.loop.edits.layers.line_edits import bare_of
from cloudrift.render.engine.engine import Engine
from cloudrift.render.plan.variants import without_line
from cloudrift.render.play.player import Player

__all__ = ["Engine", "Player", "bare_of", "without_line"]
