"""The first designs of the house sounds: loops that were made with them go on sounding the same.

Nothing here is changed any more. What newer sounds are made of is in ``sound.kit``; what only these
need is beside them.
"""
