"""`python -m cloudrift` is the same as `cloudrift`."""

from cloudrift.cli import main

if __name__ == "__main__":
    main()
