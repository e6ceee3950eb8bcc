"""The house sounds, a file a family. Every module lists what it adds in ``SOUNDS``."""
