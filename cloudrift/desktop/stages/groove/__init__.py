"""The groove bed: a stage with lanes of hits, what is chosen in them, and what draws one."""
