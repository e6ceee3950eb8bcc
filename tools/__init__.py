"""Tools that stay beside the program: pictures, reports, and what tries to break it."""
