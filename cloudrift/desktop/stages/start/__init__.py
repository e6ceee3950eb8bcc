"""Starting a loop from a style card."""
