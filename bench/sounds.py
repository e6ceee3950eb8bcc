"""How long each house sound takes for a part, with nothing kept from before: name and ms a line."""

import scipy.fft  # noqa: F401 - loaded by then in the application, and slow to load

from cloudrift.sound import CATALOGUE
from cloudrift.sound.measure import part_ms

if __name__ == "__main__":
    for name, sound in CATALOGUE.items():
        print(f"{part_ms(sound):.1f} {name}")
