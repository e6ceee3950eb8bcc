"""Edits of layers, groups and treatment lines; notes and recordings in layers."""
