"""Work beside the interface: tasks, prints, checks, the arrangement."""
