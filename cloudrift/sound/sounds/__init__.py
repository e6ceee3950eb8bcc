"""The house sounds as they are now, a file a family; each lists what it adds in ``SOUNDS``."""
