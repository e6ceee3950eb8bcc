"""The synthesis kit: what house sounds are made of. Each sound puts a few of these together."""
