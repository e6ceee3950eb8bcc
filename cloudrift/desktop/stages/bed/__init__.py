"""The groove bed: a drawer with lanes of hits, what is chosen in them, and what draws one."""
