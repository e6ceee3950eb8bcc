"""Cloudrift: write melodic loops that sound found rather than played."""

import os

# Rendering runs on its own small thread pool; a second pool inside the linear
# algebra library would fight it for the same cores. Set before NumPy loads.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

__version__ = "0.1.0"
