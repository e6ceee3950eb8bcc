"""Words for what went wrong."""

import logging

from cloudrift.ground.errors import CloudriftError

log = logging.getLogger(__name__)


def error_words(error: Exception) -> str:
    """Say in words what went wrong."""
    if isinstance(error, CloudriftError):
        return str(error)
    log.error("rendering failed", exc_info=error)
    return f"the loop could not be rendered ({error}); undo the last step and go on"
