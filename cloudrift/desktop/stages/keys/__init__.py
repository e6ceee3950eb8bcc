"""Play keys: the computer's keys and keys on the screen, laid out along the scale."""
