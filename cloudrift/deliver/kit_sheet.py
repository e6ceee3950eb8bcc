"""The sheet of a kit: as text, as a table, and as a page with pictures and players in it."""

import base64
from collections.abc import Mapping, Sequence
from html import escape

from cloudrift.deliver.cells import csv_of
from cloudrift.deliver.demo_sound import clock
from cloudrift.deliver.kit import Cover, LoopSummary
from cloudrift.deliver.page import in_list, page, table, words
from cloudrift.deliver.rights import Sheet, parts_of_page
from cloudrift.ground.words import number, plural

COLUMNS = ("file", "title", "key", "tempo BPM", "bars", "seconds", "LUFS", "peak dBTP", "must fix",
           "should fix", "marks met", "marks in all", "style", "licence")  # fmt: skip
ROLES = {
    "keys": "#2e7f87",
    "pad": "#6a79b5",
    "pluck": "#b9851c",
    "lead": "#b2466a",
    "strings": "#5b8a47",
    "voice": "#8a59a5",
    "bass": "#40525e",
    "bell": "#3590bf",
    "grain": "#8a7f71",
}
OTHER = "#8a7f71"
WIDE, HIGH = 960, 90
PREVIEW = "audio/ogg"


def as_text(name: str, cover: Cover, looked: Sequence[LoopSummary], sheet: Sheet) -> str:
    """Return the kit as text: a line or two a loop."""
    rows = [
        name,
        *([f"by {cover.maker}"] if cover.maker else []),
        f"{plural(len(looked), 'loop')}; {sheet.licence_words}",
    ]
    rows += ["", cover.about] if cover.about else []
    for at, one in enumerate(looked, 1):
        rows += ["", f"{at}. {one.title or one.file}"]
        if one.problem:
            rows.append(f"   {one.problem}")
            continue
        rows.append(
            f"   {one.key}, {number(one.tempo)} BPM, {plural(one.bars, 'bar')}, "
            f"{clock(one.seconds)}, {number(one.lufs, '.1f')} LUFS"
        )
        rows += [f"   {line}" for line in one.words]
    return "\n".join(rows) + "\n"


def as_csv(looked: Sequence[LoopSummary], licences: Mapping[str, str]) -> str:
    """Return the kit as CSV (RFC 4180), a row a loop; ``licences`` by file."""
    rows = (
        (
            one.file,
            one.title,
            one.key,
            one.tempo,
            one.bars,
            one.seconds,
            one.lufs,
            one.peak_db,
            one.must,
            one.should,
            one.met,
            one.asked,
            one.style,
            licences.get(one.file, ""),
        )
        for one in looked
    )
    return csv_of((COLUMNS, *rows))


def strata_svg(looked: LoopSummary) -> str:
    """Return a loop's strata as an SVG picture with its seconds under it."""
    if not looked.bands:
        return ""
    count = len(looked.bands[0][1])
    floor = [0.0] * count
    shapes = []
    for role, heights in looked.bands:
        top = [low + high for low, high in zip(floor, heights, strict=True)]
        edge = [(at, y) for at, y in enumerate(top)] + [(at, floor[at]) for at in range(count)][
            ::-1
        ]
        points = " ".join(
            f"{WIDE * x / (count - 1):.1f},{HIGH * (1 - min(y, 1.0)):.1f}" for x, y in edge
        )
        shapes.append(f'<polygon fill="{ROLES.get(role, OTHER)}" points="{points}"/>')
        floor = top
    axis = "".join(
        f'<text x="{WIDE * at / 4:.0f}" y="{HIGH + 14}" font-size="11" fill="#546873" '
        f'text-anchor="{("start", "middle", "middle", "middle", "end")[at]}">'
        f"{looked.seconds * at / 4:.1f} s</text>"
        for at in range(5)
    )
    told = escape(f"Strata of {looked.title}")
    return (
        f'<svg viewBox="0 0 {WIDE} {HIGH + 18}" role="img" aria-label="{told}">'
        f"{''.join(shapes)}{axis}</svg>"
    )


def as_html(
    name: str,
    cover: Cover,
    looked: Sequence[LoopSummary],
    sheet: Sheet,
    previews: Mapping[str, bytes],
    files: Mapping[str, Sequence[str]],
) -> str:
    """Return the kit as a page that needs nothing else.

    ``previews`` are loops as Ogg files, by loop file: they are in the page. ``files`` are what was
    written of each, as paths from the page.
    """
    parts = [words("h1", name)]
    if cover.maker:
        parts.append(words("p", f"by {cover.maker}", "about"))
    parts.append(words("p", f"{plural(len(looked), 'loop')}; {sheet.licence_words}", "about"))
    parts += [words("p", line) for line in cover.about.splitlines() if line]
    parts.append(words("p", "Here all loops play at about the same loudness.", "about"))
    parts += [_section(one, previews.get(one.file), files.get(one.file, ())) for one in looked]
    rows = [
        (
            one.title,
            one.key,
            number(one.tempo),
            f"{one.bars}",
            f"{one.seconds:.2f}",
            number(one.lufs, ".1f"),
        )
        for one in looked
        if not one.problem
    ]
    parts += [
        words("h2", "All loops"),
        table(("Title", "Key", "BPM", "Bars", "Seconds", "LUFS"), rows, (2, 3, 4, 5)),
        words("h2", "Rights"),
        parts_of_page(sheet),
    ]
    return page(name, *parts)


def _section(one: LoopSummary, preview: bytes | None, files: Sequence[str]) -> str:
    if one.problem:
        return f"<section>{words('h2', one.title)}{words('p', one.problem, 'open')}</section>"
    facts = (
        f"{one.key} · {number(one.tempo)} BPM · {plural(one.bars, 'bar')} · "
        f"{one.seconds:.2f} s · {number(one.lufs, '.1f')} LUFS"
    )
    player = ""
    if preview is not None:
        sound = base64.b64encode(preview).decode()
        player = f'<audio controls loop src="data:{PREVIEW};base64,{sound}"></audio>'
    links = " ".join(
        f'<a href="{escape(path, quote=True)}">{escape(path.split("/")[-1])}</a>' for path in files
    )
    return "\n".join((
        "<section>", words("h2", one.title), words("p", facts, "about"), strata_svg(one), player,
        in_list(one.words, "open"), f"<p><small>{links}</small></p>" if links else "",
        "</section>",
    ))  # fmt: skip
