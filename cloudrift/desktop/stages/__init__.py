"""The stages and what opens beside them, a folder each; none knows of another."""
