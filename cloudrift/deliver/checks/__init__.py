"""Checks before a loop is handed over: each measures something, says where, and what would mend it.

Nothing here changes a loop: a change is an edit that its reader may make.
"""

from collections.abc import Callable, Iterable

from cloudrift.deliver.checks.check import SEVERITIES, Change, Check, Checked, Finding, Severity
from cloudrift.deliver.checks.contents import CONTENTS
from cloudrift.deliver.checks.heard import Heard
from cloudrift.deliver.checks.music import MUSIC
from cloudrift.deliver.checks.sound import SOUND
from cloudrift.deliver.checks.spec import TARGETS_LUFS

__all__ = [
    "CHECKS", "SEVERITIES", "TARGETS_LUFS", "Change", "Check", "Checked", "Finding", "Heard",
    "Severity", "check_all", "to_fix",
]  # fmt: skip

CHECKS: dict[str, Check] = {one.name: one for one in (*SOUND, *MUSIC, *CONTENTS)}
NEEDS_NO_SOUND = ("unknown", "clipped", "noise", "names", "rights")  # said of what is silent, too


def check_all(
    heard: Heard,
    names: Iterable[str] = CHECKS,
    progress: Callable[[int, int, str], object] = lambda _done, _of, _what: None,
) -> tuple[Checked, ...]:
    """Run checks, in order; those that there is nothing to say of are left out.

    Where nothing sounds, that is the first finding, and only what needs no sound is looked at.
    Raises Cancelled.
    """
    wanted = [CHECKS[name] for name in names]
    out: list[Checked] = []
    silent = not heard.loop.heard() or heard.is_silent
    if silent:
        finding = Finding(severity="must", measured="nothing plays; turn a layer on in Layers")
        out.append(Checked(check=SOUND_AT_ALL, finding=finding))
        wanted = [one for one in wanted if one.name in NEEDS_NO_SOUND]
    for number, check in enumerate(wanted):
        heard.go_on()
        progress(number, len(wanted), check.label.lower())
        finding_of = check.find(heard)
        if finding_of is not None:
            out.append(Checked(check=check, finding=finding_of))
    progress(len(wanted), len(wanted), "")
    return tuple(out)


SOUND_AT_ALL = Check(name="sound", label="Sound", about="something plays", find=lambda _h: None)


def to_fix(found: Iterable[Checked]) -> int:
    """Return how many findings are not fine."""
    return sum(one.severity != "fine" for one in found)
