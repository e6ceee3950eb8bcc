"""Longer forms as sound: prints, the arrangement, its seams."""
