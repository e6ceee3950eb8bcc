"""The kinds of treatments, by family."""
