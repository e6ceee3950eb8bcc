"""The Arrange stage: sections side by side, seams between them, and what is chosen."""
