"""Pages that lie beside what is handed over: one HTML file each, with all that it needs in it."""

from collections.abc import Iterable, Sequence
from html import escape

STYLE = """
:root { color-scheme: light; }
body { font: 15px/1.5 Manrope, system-ui, sans-serif; color: #15232b; background: #f5f8f8;
  margin: 0 auto; max-width: 60rem; padding: 2rem 1.5rem 4rem; }
h1 { font-size: 1.7rem; margin: 0 0 .2rem; } h2 { font-size: 1.1rem; margin: 2rem 0 .5rem; }
p.about { color: #546873; margin: 0 0 .4rem; }
table { border-collapse: collapse; width: 100%; font-size: .86rem; }
th, td { text-align: left; vertical-align: top; padding: .35rem .9rem .35rem 0;
  border-bottom: 1px solid #d8e0e3; }
th { color: #546873; font-weight: 600; }
td.figure { font-family: "JetBrains Mono", monospace; white-space: nowrap; }
.open { color: #9e2f1c; } .good { color: #2a7553; }
section h2 { margin-top: 0; } a { color: #0b6a93; }
audio { width: 100%; height: 2.2rem; } svg { display: block; width: 100%; height: auto; }
section { background: #fff; border: 1px solid #c2ced3; border-radius: 5px; padding: 1rem 1.2rem;
  margin: 1rem 0; break-inside: avoid; }
small { color: #546873; font-family: "JetBrains Mono", monospace; overflow-wrap: anywhere; }
@media print { body { background: #fff; padding: 0; max-width: none; font-size: 11px; } }
"""


def page(title: str, *parts: str) -> str:
    """Return an HTML page; ``parts`` are HTML already."""
    body = "\n".join(part for part in parts if part)
    return (
        '<!doctype html>\n<html lang="en">\n<head>\n<meta charset="utf-8">\n'
        '<meta name="viewport" content="width=device-width, initial-scale=1">\n'
        f"<title>{escape(title)}</title>\n<style>{STYLE}</style>\n</head>\n<body>\n{body}\n"
        "</body>\n</html>\n"
    )


def words(tag: str, text: str, look: str = "") -> str:
    """Return text in a tag."""
    of = f' class="{look}"' if look else ""
    return f"<{tag}{of}>{escape(text)}</{tag}>" if text else ""


def table(head: Sequence[str], rows: Iterable[Sequence[str]], figures: Iterable[int] = ()) -> str:
    """Return a table of text; ``figures`` are columns of numbers."""
    of = set(figures)
    cells = "".join(f"<th>{escape(one)}</th>" for one in head)
    lines = [
        "<tr>"
        + "".join(
            f'<td class="figure">{escape(cell)}</td>' if at in of else f"<td>{escape(cell)}</td>"
            for at, cell in enumerate(row)
        )
        + "</tr>"
        for row in rows
    ]
    return f"<table>\n<tr>{cells}</tr>\n" + "\n".join(lines) + "\n</table>" if lines else ""


def in_list(lines: Iterable[str], look: str = "") -> str:
    """Return a list of sentences, or nothing for none."""
    of = f' class="{look}"' if look else ""
    rows = "".join(f"<li>{escape(line)}</li>" for line in lines)
    return f"<ul{of}>{rows}</ul>" if rows else ""
