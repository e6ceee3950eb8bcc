"""The Shelf: the sounds at hand, heard in the loop before one is chosen."""
