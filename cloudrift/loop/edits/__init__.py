"""Edits: pure functions from one loop to the next, by what they change."""
