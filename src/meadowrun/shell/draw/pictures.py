"""The pictures people look at, as SVG text. Each is drawn from plain numbers and carries its own
title."""

from collections.abc import Sequence

from markupsafe import Markup, escape

from meadowrun.core.content.lines import Json, live
from meadowrun.core.language import in_language
from meadowrun.core.wording import number, share

COLOURS = {
    "delivered": "#2e5e45",
    "go": "#2e5e45",
    "bounced": "#a63a63",
    "no_consent": "#b8a57a",
    "suppressed": "#8d6580",
    "no_address": "#66716a",
    "bad_address": "#8b938d",
    "bounced_before": "#c56f90",
    "duplicate": "#a9743a",
    "control": "#3f78a0",
    "over_limit": "#c98a1b",
    "waiting": "#cfd9cf",
    "in_hand": "#7fa48c",
    "in_doubt": "#e0b04f",
    "deferred": "#d9c38e",
    "stopped": "#4e5852",
    "not_rendered": "#7a1f43",
    "late": "#5b4a78",
    "quiet": "#7d6f9c",
    "had_it": "#c9a27a",
    "held_out": "#1f4f73",
    "no_room": "#a89bc4",
    "left_audience": "#94a7a0",
}


def trail(count: int, gap: int = 104) -> Markup:
    """The winding line of the top bar, through `count` stations."""
    path = "M0 13"
    for index in range(count):
        x, bend = 52 + gap * index, -6 if index % 2 == 0 else 5
        path += f" S{x - 26} {12 + bend} {x} 12"
    path += f" S{gap * count - 20} 6 {gap * count - 6} 10"
    return Markup(
        '<svg width="{w}" height="26" aria-hidden="true"><path d="{p}" fill="none" '
        'stroke="#7fa48c" '
        'stroke-width="2"/></svg>'
    ).format(w=gap * count, p=path)


def sieve_step(before: int, kept: int, off: bool = False) -> Markup:
    """One step of the sieve: what of those before is kept, widening again to stand for the next
    line's whole, however tall the line is."""
    width, height = 250, 62
    part = round(width * kept / before, 1) if before else 0
    lost = before - kept
    fill = "#2e5e45" if not off else "#9aa59e"
    inside = part > 176
    label = ""
    if lost:
        label = (
            f'<text x="{width - 6 if inside else part + 6}" y="24" font-size="12.5" fill="#5c6761" '
            f'text-anchor="{"end" if inside and part < width - 40 else "start"}">'
            f"−{escape(number(lost))}</text>"
        )
    if lost and inside:
        label = (
            f'<text x="{part - 6}" y="24" font-size="12.5" fill="#fffef9" text-anchor="end">'
            f"−{escape(number(lost))}</text>"
        )
    title = f"{escape(number(kept))} of {escape(number(before))} kept, {escape(number(lost))} lost"
    kept_words = share(kept, before, 0) + " kept" if lost else ""
    offset = 11 + 8.2 * len(in_language(number(kept)))
    return Markup(
        f'<svg class="sieve-flow" width="{width}" height="10" viewBox="0 0 {width} 10" '
        'preserveAspectRatio="none" aria-hidden="true">'
        f'<polygon points="0,0 {part},0 {width},10 0,10" fill="#e3ece3"/></svg>'
        f'<svg class="sieve-pic" width="{width + 4}" height="{height}" role="img" '
        f'aria-label="{title}">'
        f'<rect x="0" y="10" width="{width}" height="18" fill="#efe6d0"/>'
        f'<rect x="0" y="10" width="{part}" height="18" fill="{fill}"/>{label}'
        f'<text x="5" y="46" font-size="13" font-weight="700" fill="#1f2b25">'
        f"{escape(number(kept))}</text>"
        f'<text x="{offset:.0f}" y="46" font-size="12" '
        f'fill="#5c6761">{escape(kept_words)}</text></svg>'
    )


def everyone(count: int) -> Markup:
    return Markup(
        '<svg class="sieve-pic" width="254" height="62" role="img" aria-label="{n} contacts on '
        'file">'
        '<rect x="0" y="10" width="250" height="18" fill="#2e5e45"/><rect x="0" y="28" '
        'width="250" height="34" '
        'fill="#e3ece3"/><text x="5" y="46" font-size="13" font-weight="700" '
        'fill="#1f2b25">{n}</text></svg>'
    ).format(n=number(count))


def tally_bar(
    outcomes: Sequence[tuple[str, str, int]], width: int = 914, height: int = 26
) -> Markup:
    """Everyone accounted for: (outcome, words, people) side by side, each at least a hairline
    wide."""
    total = sum(n for _, _, n in outcomes)
    if not total:
        return Markup("")
    spare = width - 2 * len([1 for _, _, n in outcomes if n])
    parts, x = [], 0.0
    for name, words, count in outcomes:
        if not count:
            continue
        wide = max(2.0, spare * count / total)
        parts.append(
            f'<rect x="{x:.1f}" y="0" width="{wide:.1f}" height="{height}" fill="{COLOURS[name]}">'
            f"<title>{escape(words)}: {escape(number(count))}</title></rect>"
        )
        x += wide + 2
    return Markup(
        f'<svg width="100%" height="{height}" viewBox="0 0 {max(x, 1):.1f} {height}" '
        'preserveAspectRatio="none" role="img" aria-label="Everyone accounted for; the figures '
        'stand below">'
        f"{''.join(parts)}</svg>"
    )


def swatch(outcome: str) -> Markup:
    return Markup(
        '<svg class="swatch" width="10" height="10" aria-hidden="true"><rect width="10" '
        'height="10" '
        'fill="{c}"/></svg>'
    ).format(c=COLOURS[outcome])


def bar(
    value: int,
    most: int,
    colour: str = "#7fa48c",
    width: int = 120,
    height: int = 12,
    track: str = "none",
) -> Markup:
    """A bar `value` of `most` long; `track` is the colour of the whole behind it, for a share."""
    wide = max(1.0, width * value / most) if value and most else 0
    return Markup(
        '<svg width="{w}" height="{h}" aria-hidden="true"><rect width="{w}" height="{h}" '
        'fill="{t}"/>'
        '<rect width="{x}" height="{h}" fill="{c}"/></svg>'
    ).format(w=width, h=height, x=round(wide, 1), c=colour, t=track)


def reached(
    audience: int, delivered: int, opened: int, clicked: int, width: int = 96, height: int = 16
) -> Markup:
    """One send at a glance: of its audience who got it, opened and clicked, one within the
    other."""
    if not audience:
        return Markup("")
    parts = []
    for place, (count, colour) in enumerate(
        ((delivered, "#b9cdbf"), (opened, "#2e5e45"), (clicked, "#c98a1b"))
    ):
        wide = width * count / audience
        if count:
            parts.append(
                f'<rect y="{place * 3}" width="{max(1.0, wide):.1f}" '
                f'height="{height - place * 6}" fill="{colour}"/>'
            )
    return Markup(
        f'<svg width="{width}" height="{height}" aria-hidden="true"><rect width="{width}" '
        f'height="{height}" fill="#efeadb"/>{"".join(parts)}</svg>'
    )


def bands(found: Sequence[tuple[float, float, int]], width: int = 252, height: int = 84) -> Markup:
    """How many lie in each of some bands, given as (from, to, how many), one column each."""
    most = max((count for *_, count in found), default=0)
    if not most:
        return Markup("")
    gap = width / len(found)
    columns = "".join(
        f'<rect x="{n * gap + 1:.1f}" y="{height - 16 - (height - 18) * count / most:.1f}" '
        f'width="{gap - 2:.1f}" '
        f'height="{(height - 18) * count / most:.1f}" '
        f'fill="#7fa48c"><title>{escape(number(round(low, 1)))} to '
        f"{escape(number(round(high, 1)))}: "
        f"{escape(number(count))}</title></rect>"
        for n, (low, high, count) in enumerate(found)
    )
    ends = (
        f'<text x="0" y="{height - 3}" font-size="11" '
        f'fill="#5c6761">{escape(number(round(found[0][0], 1)))}</text>'
        f'<text x="{width}" y="{height - 3}" font-size="11" fill="#5c6761" '
        f'text-anchor="end">{escape(number(round(found[-1][1], 1)))} points</text>'
    )
    return Markup(
        f'<svg width="{width}" height="{height}" role="img" aria-label="How many people have how '
        f'many points">{columns}'
        f'<line x1="0" x2="{width}" y1="{height - 16}" y2="{height - 16}" '
        f'stroke="#dfd9c8"/>{ends}</svg>'
    )


def interval(low: float, middle: float, high: float, width: int = 370, height: int = 56) -> Markup:
    """A difference of shares with its bounds on a line through zero, in points of 100."""
    reach = max(abs(low), abs(high), 0.01) * 1.15

    def at(value: float) -> float:
        return round(width / 2 + value / reach * (width / 2 - 20), 1)

    colour = "#66716a" if low <= 0 <= high else "#2e5e45" if low > 0 else "#a63a63"
    words = f"{100 * middle:+.1f} points, between {100 * low:+.1f} and {100 * high:+.1f}"
    ends = "".join(
        (
            f'<text x="{at(value)}" y="54" font-size="11" fill="#5c6761" '
            f'text-anchor="middle">{100 * value:+.1f}</text>'
        )
        for value in (low, high)
    )
    return Markup(
        f'<svg width="{width}" height="{height}" role="img" aria-label="{words}"><line x1="0" '
        f'x2="{width}" y1="28" y2="28" '
        f'stroke="#dfd9c8"/><line x1="{at(0)}" x2="{at(0)}" y1="14" y2="42" stroke="#5c6761" '
        'stroke-dasharray="3 3"/>'
        f'<rect x="{at(low)}" y="23" width="{max(2.0, at(high) - at(low)):.1f}" height="10" '
        f'fill="{colour}" opacity=".35"/>'
        f'<rect x="{at(middle) - 2}" y="19" width="4" height="18" fill="{colour}"/>{ends}'
        f'<text x="{at(0)}" y="10" font-size="11" fill="#5c6761" text-anchor="middle">no '
        "difference</text></svg>"
    )


def timeline(
    points: Sequence[tuple[str, int, int, int]],
    names: tuple[str, str, str],
    width: int = 440,
    height: int = 150,
    each: str = "step",
) -> Markup:
    """Columns over time: (label or "", first, second, third) one behind the other, the first
    tallest. What has no name is not drawn."""
    drawn = [series for series in range(3) if names[series]]
    most = max((counts[series] for _, *counts in points for series in drawn), default=0)
    if not most:
        return Markup("")
    # A send that has only begun to be read does not look like one that everybody read at once.
    gap = width / max(12, len(points))
    colours = ("#b9cdbf", "#2e5e45", "#c98a1b")
    parts = []
    for index, (label, opened, clicked, succeeded) in enumerate(points):
        counts = (opened, clicked, succeeded)
        for series in drawn:
            tall = (height - 32) * counts[series] / most
            if tall:
                inset = series * gap * 0.14
                parts.append(
                    f'<rect x="{index * gap + 1 + inset:.1f}" y="{height - 18 - tall:.1f}" '
                    f'width="{max(1, gap - 2 - 2 * inset):.1f}" height="{tall:.1f}" '
                    f'fill="{colours[series]}">'
                    f"<title>{escape(names[series])}: "
                    f"{escape(number(counts[series]))}</title></rect>"
                )
        if label and index * gap < width - 60:
            parts.append(
                f'<text x="{index * gap + 1:.1f}" y="{height - 4}" font-size="11" fill="#5c6761">'
                f"{escape(label)}</text>"
            )
    parts.append(
        '<text x="0" y="10" font-size="11" fill="#5c6761">'
        f"up to {escape(number(most))} in one {each}</text>"
        f'<line x1="0" x2="{width}" y1="{height - 18}" y2="{height - 18}" stroke="#dfd9c8"/>'
    )
    return Markup(
        f'<svg width="100%" viewBox="0 0 {width} {height}" role="img" '
        f'aria-label="Over time; a table follows">{"".join(parts)}</svg>'
    )


def regions(
    names: Sequence[str],
    sizes: Sequence[int],
    parts: Sequence[tuple[tuple[bool, ...], int]],
    width: int = 914,
) -> Markup:
    """Two or three sets as lanes over shared columns: each column is a part, as wide as it has
    people."""
    colours, lane, left = ("#2e5e45", "#c98a1b", "#8d6580"), 30, 210
    total = sum(count for _, count in parts) or 1
    drawn, x = [], float(left)
    for inside, count in parts:
        w = (width - left) * count / total
        for row, here in enumerate(inside):
            if here and count:
                drawn.append(
                    f'<rect x="{x:.1f}" y="{row * (lane + 6)}" width="{max(w - 1, 0.8):.1f}" '
                    f'height="{lane}" fill="{colours[row]}"/>'
                )
        if w > 46:
            drawn.append(
                f'<text x="{x + w / 2:.1f}" y="{len(names) * (lane + 6) + 14}" '
                'text-anchor="middle" font-size="12.5" '
                f'fill="#1f2b25">{escape(number(count))}</text>'
            )
        x += w
    for row, (name, size) in enumerate(zip(names, sizes, strict=True)):
        short = name if len(name) <= 26 else name[:25] + "…"
        drawn.append(
            f'<text x="0" y="{row * (lane + 6) + 13}" font-size="13" font-weight="700" '
            f'fill="#1f2b25">{escape(short)}</text>'
            f'<text x="0" y="{row * (lane + 6) + 28}" font-size="12" '
            f'fill="#5c6761">{escape(number(size))}</text>'
        )
    height = len(names) * (lane + 6) + 20
    return Markup(
        f'<svg width="100%" viewBox="0 0 {width} {height}" role="img" aria-label="What the '
        "segments share, in proportion; "
        f'a table follows">{"".join(drawn)}</svg>'
    )


def beside(here: float, everyone_: float, colour: str, width: int = 220) -> Markup:
    """A share as a bar, with a mark at the share of everyone. Both from 0 to 1."""
    return Markup(
        f'<svg width="{width}" height="16" aria-hidden="true"><rect y="3" width="{width}" '
        'height="10" fill="#eee9da"/>'
        f'<rect y="3" width="{width * here:.1f}" height="10" fill="{colour}"/>'
        f'<path d="M{width * everyone_:.1f} 0v16" stroke="#1f2b25" stroke-width="2"/></svg>'
    )


def sparkline(values: Sequence[int], width: int = 220, height: int = 34) -> Markup:
    """A size over time, from its smallest to its largest value; a single value has no line."""
    if len(values) < 2:
        return Markup("")
    low, high = min(values), max(values)
    reach = (high - low) or 1
    points = " ".join(
        f"{width * i / (len(values) - 1):.1f},{height - 4 - (height - 8) * (v - low) / reach:.1f}"
        for i, v in enumerate(values)
    )
    return Markup(
        f'<svg width="{width}" height="{height}" role="img" '
        f'aria-label="from {escape(number(values[0]))} to {escape(number(values[-1]))}">'
        f'<polyline points="{points}" fill="none" stroke="#2e5e45" stroke-width="1.6"/></svg>'
    )


_PARTS = ("#2e5e45", "#c98a1b", "#8d6580", "#7fa48c", "#a63a63", "#66716a", "#d9a441", "#4e5852")


def group_colour(place: int) -> str:
    return _PARTS[place % len(_PARTS)]


def groups_bar(parts: Sequence[tuple[str, str, int]], width: int = 914, height: int = 30) -> Markup:
    """Parts (key, name, people) side by side, as wide as they are large; the last is everyone
    else."""
    total, x, drawn = sum(size for *_, size in parts) or 1, 0.0, []
    for place, (key, name, size) in enumerate(parts):
        w = width * size / total
        colour = "#cfd9cf" if key == "else" else group_colour(place)
        drawn.append(
            f'<rect x="{x:.1f}" width="{max(w - 1, 0):.1f}" height="{height}" fill="{colour}"/>'
        )
        if w > 7.2 * len(name) + 12:
            ink = (
                "#1f2b25"
                if key == "else" or colour in ("#c98a1b", "#7fa48c", "#d9a441")
                else "#fffef9"
            )
            drawn.append(
                f'<text x="{x + 7:.1f}" y="20" font-size="12.5" fill="{ink}">{escape(name)}</text>'
            )
        x += w
    said = "; ".join(f"{name}: {in_language(number(size))}" for _, name, size in parts)
    return Markup(
        '<svg width="100%" viewBox="0 0 {w} {h}" role="img" aria-label="{said}">{drawn}</svg>'
    ).format(w=width, h=height, said=said, drawn=Markup("".join(drawn)))


def page_sketch(lines: Sequence[Json], width: int = 132, height: int = 122) -> Markup:
    """What a message looks like from far away: its lines as bars, boxes and pills, cut off where
    the sheet ends."""
    drawn: list[str] = []
    _sketched(live(lines), 10, 12, width - 20, drawn)
    if not lines:
        drawn = [
            _rect(12, 14 + 9 * n, (width - 24) * (0.5 if n % 4 == 3 else 0.9), 3, "#a9b1a8")
            for n in range(14)
            if n % 5 != 4
        ]
    return Markup(
        '<svg viewBox="0 0 {w} {h}" width="{w}" height="{h}" aria-hidden="true"><rect '
        'width="{w}" height="{h}" fill="#fffef9"/>'
        "{drawn}</svg>"
    ).format(w=width, h=height, drawn=Markup("".join(drawn)))


def _rect(x: float, y: float, width: float, height: float, colour: str, round_: float = 1) -> str:
    return (
        f'<rect x="{x:.1f}" y="{y:.1f}" width="{width:.1f}" height="{height:.1f}" '
        f'rx="{round_}" fill="{colour}"/>'
    )


def _sketched(lines: Sequence[Json], x: float, y: float, width: float, drawn: list[str]) -> float:
    """Draws lines under each other from `y` on; gives where the next one would begin."""
    for line in lines:
        kind = line["type"]
        start = {"center": 0.5, "right": 1.0}.get(str(line.get("align")), 0.0)
        if kind == "heading":
            drawn.append(_rect(x + start * width * 0.3, y, width * 0.7, 6, "#1f2b25"))
            y += 12
        elif kind == "picture":
            y += _picture_sketched(x, y, width, drawn)
        elif kind == "button":
            wide = min(width, 52)
            drawn.append(_rect(x + start * (width - wide), y, wide, 10, "#2e5e45", 3))
            y += 16
        elif kind == "columns":
            left, ends = x, [y]
            for share_, held in zip(line["split"], line["columns"], strict=True):
                wide = width * share_ / 100
                ends.append(_sketched(held, left, y, wide - 4, drawn))
                left += wide
            y = max(ends) + 2
        elif kind == "divider":
            drawn.append(_rect(x, y + 1, width, 1, "#c9c3b0"))
            y += 7
        elif kind == "only":
            inner: list[Json] = line["otherwise"] or next((c["content"] for c in line["cases"]), [])
            y = _sketched(inner, x, y, width, drawn)
        elif kind == "space":
            y += 8
        else:
            y += _words_sketched(line, x, y, width, start, drawn)
    return y


def _picture_sketched(x: float, y: float, width: float, drawn: list[str]) -> float:
    """A picture as a hill under a sun; gives how much room it takes."""
    tall = min(width * 0.42, 40)
    hill = (
        f"M{x:.1f} {y + tall:.1f} l{width * 0.35:.1f} {-tall * 0.5:.1f} "
        f"l{width * 0.3:.1f} {tall * 0.5:.1f}z"
    )
    drawn += [
        _rect(x, y, width, tall, "#dcc9a0"),
        f'<path d="{hill}" fill="#b8a57a"/>',
        (
            f'<circle cx="{x + width * 0.75:.1f}" cy="{y + tall * 0.35:.1f}" '
            f'r="{tall * 0.13:.1f}" fill="#fffef9"/>'
        ),
    ]
    return tall + 6


def _words_sketched(
    line: Json, x: float, y: float, width: float, start: float, drawn: list[str]
) -> float:
    """A text as rows, more of them the longer it is; gives how much room it takes."""
    kind = line["type"]
    rows = min(4, 1 + len(str(line.get("html") or line.get("code") or "")) // 60)
    colour, indent = (
        ("#d5d2c4", 0) if kind == "footer" else ("#a9b1a8", 8 if kind == "quote" else 0)
    )
    for row in range(rows):
        wide = (width - indent) * (0.6 if row == rows - 1 else 0.95)
        left = x + indent + start * (width - indent - wide)
        drawn.append(_rect(left, y + row * 6, wide, 3, colour))
    if indent:
        drawn.append(_rect(x, y, 2, rows * 6 - 3, "#c98a1b"))
    return rows * 6 + 5
