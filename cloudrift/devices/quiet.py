"""Sound systems that are not there say so on the standard error by themselves; it is kept off it.

What they say goes into the log, once, as one line.
"""

import contextlib
import logging
import os
import tempfile
from collections.abc import Iterator

log = logging.getLogger(__name__)

_STDERR = 2
_said: set[str] = set()


@contextlib.contextmanager
def quiet_sound_system() -> Iterator[None]:
    """Keep what C libraries write to the standard error off it while a device is looked for."""
    try:
        kept = os.dup(_STDERR)
    except OSError:  # there is none
        yield
        return
    with tempfile.TemporaryFile() as file:
        os.dup2(file.fileno(), _STDERR)
        try:
            yield
        finally:
            os.dup2(kept, _STDERR)
            os.close(kept)
            file.seek(0)
            lines = file.read(1 << 16).decode(errors="replace").splitlines()
            _log_once([line.strip() for line in lines if line.strip()])


def _log_once(lines: list[str]) -> None:
    if lines and lines[0] not in _said:
        _said.add(lines[0])
        more = f" (and {len(lines) - 1} more lines)" if len(lines) > 1 else ""
        log.info("the sound system says: %s%s", lines[0], more)
