"""Measurements of sounds, kept from one run of the tests to the next.

To measure all house sounds takes minutes, and hardly any change touches them. What was measured
of one is kept in the user's cache by a hash of all that it depends on: the code below the loop that
sounds are made of, measured and judged by, the sound's own module, the libraries. The assertions
are made each time. Where ``CI`` is set, nothing is kept or recalled.
"""

import ast
import functools
import hashlib
import importlib.metadata
import os
import pickle
import pkgutil
import platform
import sys
from importlib import import_module
from pathlib import Path

import cloudrift
from cloudrift.sound import sounds

HERE = Path(cloudrift.__file__).parent
FOLDER = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache") / "cloudrift-tests"
BELOW = ("ground", "audio", "theory", "notes", "sound")
LIBRARIES = ("numpy", "scipy", "msgspec", "pyloudnorm", "soxr")
MOST = 3000  # files
OFF = bool(os.environ.get("CI"))


def _hash_of(*parts):
    found = hashlib.blake2b(digest_size=16)
    for part in parts:
        found.update(repr(part).encode())
    return found.hexdigest()


@functools.cache
def _shared():
    """What all sounds depend on."""
    files = [
        path
        for folder in BELOW
        for path in sorted((HERE / folder).rglob("*"))
        if path.suffix in (".py", ".c", ".so", ".toml") and path.parent != HERE / "sound" / "sounds"
    ]
    libraries = [importlib.metadata.version(name) for name in LIBRARIES]
    return _hash_of(
        sys.version, platform.machine(), libraries,
        [(str(path.relative_to(HERE)), path.read_bytes()) for path in files],
    )  # fmt: skip


@functools.cache
def _modules():
    """The modules of the sounds by name, each with those of its kind that it imports."""
    prefix = "cloudrift.sound.sounds."
    names = [one.name for one in pkgutil.iter_modules(sounds.__path__)]
    imports = {}
    for name in names:
        tree = ast.parse((HERE / "sound" / "sounds" / f"{name}.py").read_text())
        found = [n.module for n in ast.walk(tree) if isinstance(n, ast.ImportFrom) and n.module]
        imports[name] = {m.removeprefix(prefix) for m in found if m.startswith(prefix)}
    return imports


@functools.cache
def _own(module):
    """What one module of sounds is made of: its text, and that of those it imports."""
    todo, found = [module], {}
    while todo:
        name = todo.pop()
        if name not in found:
            found[name] = (HERE / "sound" / "sounds" / f"{name}.py").read_bytes()
            todo += _modules()[name]
    return _hash_of(sorted(found.items()))


def module_of(sound):
    """The module that a house sound is in."""
    return next(
        name
        for name in _modules()
        if sound in getattr(import_module(f"cloudrift.sound.sounds.{name}"), "SOUNDS", ())
    )


def recalled(what, sound, make, *more):
    """What was measured of a sound, or is measured now; ``more`` is what else it depends on."""
    if OFF:
        return make()
    path = FOLDER / _hash_of(_shared(), _own(module_of(sound)), what, sound.name, more)
    try:
        return pickle.loads(path.read_bytes())
    except (OSError, pickle.PickleError, EOFError, AttributeError):
        made = make()
        FOLDER.mkdir(parents=True, exist_ok=True)
        part = path.with_suffix(f".{os.getpid()}")
        part.write_bytes(pickle.dumps(made))
        part.replace(path)
        return made


def tidy():
    """Let the oldest go where there are many."""
    if FOLDER.is_dir():
        files = sorted(FOLDER.iterdir(), key=lambda path: path.stat().st_mtime)
        for path in files[:-MOST]:
            path.unlink(missing_ok=True)
