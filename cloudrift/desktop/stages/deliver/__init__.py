"""The Deliver stage: where to, what, and the writing of it."""
