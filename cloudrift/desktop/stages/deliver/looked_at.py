"""What is known of the loops in a folder, as long as their files are as they were."""

from collections.abc import Iterable, Sequence
from pathlib import Path

from cloudrift.deliver.kit import Kit, LoopSummary
from cloudrift.ground.words import number, plural


class LookedAt:
    """Summaries by file, each with the time and size that the file had. Safe for threads."""

    def __init__(self) -> None:
        self._known: dict[Path, tuple[tuple[int, int], LoopSummary]] = {}

    def put(self, path: Path, summary: LoopSummary) -> None:
        """Keep what was found of a file as it is now; nothing where it is gone."""
        stamp = _stamp(path)
        if stamp is not None:
            self._known[path] = (stamp, summary)

    def is_current(self, path: Path) -> bool:
        """Return whether a file is as it was when it was looked at."""
        had = self._known.get(path)
        return _stamp(path) == (had[0] if had else None)

    def of(self, paths: Iterable[Path]) -> dict[Path, LoopSummary]:
        """Return what is known of some files."""
        return {path: self._known[path][1] for path in paths if path in self._known}


def _stamp(path: Path) -> tuple[int, int] | None:
    try:
        seen = path.stat()
    except OSError:
        return None
    return seen.st_mtime_ns, seen.st_size


def kit_words(kit: Kit, found: Sequence[LoopSummary], alike_pairs: int) -> tuple[str, str]:
    """Return what is to be said of a kit, and in which look, by what of it was looked at."""
    left = len(kit.files) - len(found)
    if kit.problems:
        return kit.problems[0], "signal"
    if left:
        return f"Scanning {plural(left, 'loop')} of {len(kit.files)}…", "soft"
    seconds = sum(one.seconds for one in found)
    fix = sum(one.must + one.should for one in found)
    loud = [one.lufs for one in found if not one.problem]
    spread = f", {number(min(loud), '.1f')} to {number(max(loud), '.1f')} LUFS" if loud else ""
    alike = f"; {plural(alike_pairs, 'pair')} very similar" if alike_pairs else ""
    return (
        f"{plural(len(found), 'loop')}, {seconds:.0f} s in all{spread}; "
        f"{fix or 'nothing'} to fix{alike}"
    ), "soft"
