"""The command line: the same jobs without a window, a module for each kind of them."""

from cloudrift.cli.main import main

__all__ = ["main"]
