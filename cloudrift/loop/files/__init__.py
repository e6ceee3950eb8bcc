"""Loop files: reading and writing, recovery, templates and progressions that are kept."""
