"""The stages and drawers, a folder each; none knows of another."""
