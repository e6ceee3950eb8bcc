"""Edits of flips and prints: cutting, places, scattering, a flip as a loop of its own."""
