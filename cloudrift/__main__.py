"""`python -m cloudrift` is the same as `cloudrift`."""

from cloudrift.cli import main

main()
