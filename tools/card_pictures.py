"""Make the pictures of the house cards for the start page: a real sketch of each, measured.

Writes ``cloudrift/style/cards/pictures.json``: for each card the names of its chords with where
they begin (0 to 1), and the energy of each layer over the loop (0 to 255), with its role.
"""

import json
from pathlib import Path

import cloudrift.style
from cloudrift.render import Engine
from cloudrift.render.measure.strata import strata
from cloudrift.style import house_cards, sketch
from cloudrift.style.pictures import PICTURES

COLUMNS = 80


def main() -> None:
    """Sketch, render and measure each card."""
    out = {}
    for card in house_cards().values():
        loop = sketch(card)
        engine = Engine()
        curves = strata(engine, loop)
        engine.close()
        out[card.name] = {
            "chords": [
                [chord.read(loop.key).text, round(chord.start_tick / loop.ticks, 4)]
                for chord in loop.chords
            ],
            "strata": [
                [role, [round(255 * float(x)) for x in curve.reshape(COLUMNS, -1).mean(axis=1)]]
                for role, curve in curves
            ],
        }
    folder = Path(cloudrift.style.__file__).parent / "cards"
    text = json.dumps(out, ensure_ascii=False, separators=(",", ":")).replace("},", "},\n")
    (folder / PICTURES).write_text(text + "\n", encoding="utf-8")


if __name__ == "__main__":
    main()
