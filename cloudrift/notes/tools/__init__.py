"""Tools: what is done to notes that are a layer's own. Pure functions of notes and settings.

A tool is one entry with its words, its settings and the doing; adding one is adding an entry.
"""

from cloudrift.ground.errors import CloudriftError, did_you_mean
from cloudrift.notes.tools import bass, length, loudness, more, pitch, timing
from cloudrift.notes.tools.tool import GROUPS, Tool, ToolContext, use

TOOLS: dict[str, Tool] = {
    tool.name: tool
    for family in (timing, length, pitch, loudness, more, bass)
    for tool in family.TOOLS
}

__all__ = ["GROUPS", "TOOLS", "Tool", "ToolContext", "find_tool", "use"]


def find_tool(name: str) -> Tool:
    """Return a tool by name; raise CloudriftError if there is none."""
    if name not in TOOLS:
        raise CloudriftError(f"there is no tool called {name!r}{did_you_mean(name, TOOLS)}")
    return TOOLS[name]
