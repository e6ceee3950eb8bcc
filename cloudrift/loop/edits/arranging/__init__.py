"""Edits of sections, seams and passes."""
