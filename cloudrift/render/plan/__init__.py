"""What to compute: a loop as a graph of pure steps, each with its key."""
