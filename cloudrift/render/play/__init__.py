"""Playing and recording: the player, short loops to audition, takes."""
