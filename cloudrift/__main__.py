"""`python -m cloudrift` is the same as `cloudrift`."""

import sys
from pathlib import Path

if __name__ == "__main__":
    # Started as a module, Python looks for imports first in the folder one happens to be in, where
    # anybody's files may lie: only where the program itself is there, that is right.
    here = str(Path(__file__).resolve().parent.parent)
    if not sys.flags.safe_path and sys.path and str(Path(sys.path[0] or ".").resolve()) != here:
        del sys.path[0]

    from cloudrift.cli import main

    main()
