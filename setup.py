"""What pyproject.toml can't say: inner loops in C, left out where there is no compiler."""

from setuptools import Extension, setup

# No contraction and no unsafe mathematics: the same numbers as by NumPy, on every machine.
setup(ext_modules=[
    Extension("cloudrift.audio._quick", ["cloudrift/audio/quick.c"], optional=True,
              extra_compile_args=["-O3", "-ffp-contract=off", "-fno-math-errno"]),
])  # fmt: skip
