"""Draws the map of a journey: a river along a ruler of days, as wide as the people on it."""

import base64
import dataclasses
import functools
import pathlib
from collections.abc import Callable, Collection, Mapping
from typing import NamedTuple

from markupsafe import Markup, escape

from meadowrun import shell
from meadowrun.core.journeys.drawing import MOST_LETTERS, Flow, Map, Mark, Ruler, Stream, lay_out
from meadowrun.core.journeys.steps import Itinerary, MessageStep, Parting, Path
from meadowrun.core.journeys.words import Names, line, path_line
from meadowrun.core.language import Wording, in_language
from meadowrun.core.results.reached import Reached
from meadowrun.core.wording import count_of, number
from meadowrun.journeys.figures import Here, Numbers

#: The colour of the main path, and of those beside it; and of their names.
RIVER = ("#7fa48c", "#8fb3cf", "#e0b95a", "#c98fa6")
_NAMED = ("#2e5e45", "#2b5c7e", "#8a5c0b", "#8a2a50")
#: How long the river takes to change its row.
_BEND = 56
#: A map up to this width is drawn smaller to fit; a wider one is moved along.
_FITS = 1250
_INK, _DUSK, _RULE, _HAY = "#1f2b25", "#5c6761", "#dfd9c8", "#c98a1b"
_SHEET = "#fffdf8"
#: The width of the small map of the whole, and its narrowest line in pixels of the large one.
_WHOLE, _THIN = 360.0, 9.0


@dataclasses.dataclass(frozen=True, slots=True)
class Folds:
    """Which steps are folded, by id, and the address at which one of them is folded or unfolded;
    without it nothing can be."""

    folded: Collection[str] = ()
    address: Callable[[str], str] | None = None


#: Nothing is folded, and nothing can be.
UNFOLDED = Folds()


class Drawn(NamedTuple):
    """A map, and the whole of it as a small picture where the map is wider than the page; empty
    without a step."""

    map: Markup
    whole: Markup


def draw(
    itinerary: Itinerary,
    names: Names,
    numbers: Numbers | None,
    chosen: str = "",
    folds: Folds = UNFOLDED,
) -> Drawn:
    """The map of an itinerary with the people on it, `chosen` lit; nothing without a step."""
    flow = (
        Flow(numbers.passed, numbers.by, numbers.on)
        if numbers
        else Flow(lambda step: 0, lambda step, path: 0, lambda step: 0)
    )
    return draw_flow(itinerary, names, flow, lambda mark: _told(mark, numbers), chosen, folds)


def draw_flow(
    itinerary: Itinerary,
    names: Names,
    flow: Flow,
    told: Callable[[Mark], str],
    chosen: str = "",
    folds: Folds = UNFOLDED,
) -> Drawn:
    """The map of an itinerary, as wide as a flow of people; `told` says what stands below the name
    of a step."""
    itinerary, names = itinerary.on(), names.of(itinerary)
    if not any(lane.steps for lane in itinerary.lanes):
        return Drawn(Markup(""), Markup(""))
    found = lay_out(itinerary, flow, folds.folded)
    most = max((mark.people for mark in found.marks), default=0)
    said = {step.id: line(step, names) for step, _, _ in itinerary.walk()}
    paths = {
        path.id: (step, path)
        for step, _, _ in itinerary.walk()
        if isinstance(step, Parting)
        for path in step.paths
    }
    # What is narrow lies upon what is wide, so that nothing is hidden.
    streams = sorted(found.streams, key=lambda one: -one.people)
    parts = [_ruler(one, names.lanes.get(one.lane, "")) for one in found.rulers]
    parts += [_stream(one, found, most) for one in streams]
    parts += [_path_name(one, paths, names) for one in found.streams if one.path]
    for mark in found.marks:
        words = said[mark.id]
        step = itinerary.step(mark.id)
        name = words.what if isinstance(step, MessageStep) else f"{words.kind}: {words.what}"
        name = (step.name if step else "") or name
        lit = chosen in (mark.id, *mark.inside)
        parts.append(_mark(mark, found, most, name, told(mark), lit))
        if folds.address is not None and mark.fold is not None:
            parts.append(_fold(mark, name, folds.address(mark.id)))
    fits = " fits" if found.width <= _FITS else ""
    drawn = Markup(
        f'<svg class="river{fits}" width="{found.width:.0f}" height="{found.height:.0f}" '
        f'viewBox="0 0 {found.width:.0f} {found.height:.0f}" role="group" '
        f'aria-label="{escape(Wording("The journey; its lines follow"))}">{"".join(parts)}</svg>'
    )
    return Drawn(drawn, Markup("") if fits else _whole(found, streams, most))


def _whole(found: Map, streams: list[Stream], most: int) -> Markup:
    """All of a wide map as a small picture, with a frame around what is in view. Whoever does not
    see it reads the lines."""
    ways = "".join(
        f'<path d="{_way(one)}" fill="none" stroke="{RIVER[one.tone]}" '
        f'stroke-width="{max(_THIN, found.width_of(one.people, most)):.0f}"/>'
        for one in streams
    )
    marks = "".join(
        f'<path d="M{mark.x:.0f} {mark.y - 24:.0f}v48" stroke="{_INK}" stroke-width="6"/>'
        for mark in found.marks
    )
    return Markup(
        f'<svg class="river-whole" width="{_WHOLE:.0f}" '
        f'height="{max(24.0, _WHOLE * found.height / found.width):.0f}" '
        f'viewBox="0 0 {found.width:.0f} {found.height:.0f}" aria-hidden="true" x-ref="whole" '
        f'x-on:pointerdown.prevent="take" x-on:pointermove="follow">{ways}{marks}'
        f'<rect x-ref="frame" y="4" width="{found.width:.0f}" height="{found.height - 8:.0f}" '
        f'fill="{_HAY}" fill-opacity=".18" stroke="{_HAY}" stroke-width="8"/></svg>'
    )


def _fold(mark: Mark, name: str, address: str) -> str:
    """A small square below a mark, by which its paths are folded into it, or out of it."""
    assert mark.fold is not None
    box, middle = mark.fold, mark.fold.y + mark.fold.height / 2
    said = Wording("Unfold “%(name)s”", name=name)
    if not mark.inside:
        said = Wording("Fold “%(name)s”", name=name)
    down = f"M{mark.x:.0f} {middle - 4:.0f}v8" if mark.inside else ""
    return (
        f'<a href="{escape(address)}" class="fold" id="fold-{escape(mark.id)}" '
        f'aria-label="{escape(said)}"><title>{escape(said)}</title>'
        f'<rect x="{mark.x - 12:.0f}" y="{middle - 12:.0f}" width="24" height="24" fill="none" '
        'pointer-events="all"/>'
        f'<rect x="{box.x:.0f}" y="{box.y:.0f}" width="{box.width:.0f}" height="{box.height:.0f}" '
        f'rx="3" fill="#fff" stroke="{_DUSK}"/>'
        f'<path d="M{mark.x - 4:.0f} {middle:.0f}h8{down}" stroke="{_INK}" stroke-width="1.5"/></a>'
    )


#: The font by which the lengths of labels were chosen.
_FONT = pathlib.Path(shell.__file__).parent / "static" / "fonts" / "figtree-latin-wght-normal.woff2"


@functools.cache
def _with_font() -> str:
    """What a drawing begins with that stands outside of a page: the font of the pages goes along,
    since with a wider one labels would lie upon each other."""
    font = base64.b64encode(_FONT.read_bytes()).decode()
    return (
        "<style>@font-face{font-family:Figtree;font-weight:300 900;"
        f"src:url(data:font/woff2;base64,{font})}}"
        "svg{font-family:Figtree,sans-serif}</style>"
    )


def alone(drawn: str) -> str:
    """A drawing of a page as a file of its own."""
    begins, rest = drawn.split(">", 1)
    begins = begins.replace("<svg ", '<svg xmlns="http://www.w3.org/2000/svg" ', 1)
    return f"{begins}>{_with_font()}{rest}"


#: The size of the curve of a goal.
_WIDE, _TALL = 220.0, 60.0


def curve(found: Reached, days: int) -> Markup:
    """The share that has reached the goal after each day, as a small picture; nothing where nobody
    has."""
    if not found.by_day:
        return Markup("")
    top = found.share
    way = f"M0 {_TALL:.0f}"
    for day, share in found.by_day:
        x, y = min(1.0, (day + 1) / days) * _WIDE, _TALL - share / top * (_TALL - 4)
        way += f"H{x:.1f}V{y:.1f}"
    label = Wording("The share that has reached the goal, over %(days)s days", days=days)
    return Markup(
        f'<svg width="{_WIDE:.0f}" height="{_TALL + 16:.0f}" role="img" '
        f'aria-label="{escape(label)}"><path d="M0 {_TALL:.0f}H{_WIDE:.0f}" stroke="{_RULE}"/>'
        f'<path d="{way}H{_WIDE:.0f}" fill="none" stroke="{_NAMED[0]}" stroke-width="2"/>'
        f'<text x="0" y="{_TALL + 12:.0f}" font-size="10" fill="{_DUSK}">0</text>'
        f'<text x="{_WIDE:.0f}" y="{_TALL + 12:.0f}" font-size="10" text-anchor="end" '
        f'fill="{_DUSK}">{escape(Wording("day %(n)s", n=days))}</text></svg>'
    )


def _told(mark: Mark, numbers: Numbers | None) -> str:
    """What is said below the name of a step: who is there now, and what they did."""
    if mark.inside:
        inside = steps_inside(mark)
        here_now = sum(
            numbers.here.get(step, Here()).people if numbers else 0
            for step in (mark.id, *mark.inside)
        )
        if not here_now:
            return inside
        return f"{inside} · " + Wording("%(n)s here", n=number(here_now))
    if numbers is None:
        return ""
    here = numbers.here.get(mark.id, Here())
    if mark.kind == "message":
        told = Wording("%(sent)s sent", sent=number(numbers.sent(mark.id)))
        return f"{told} · " + Wording("%(n)s here", n=number(here.people)) if here.people else told
    if mark.id in numbers.tasks:
        given, done = numbers.tasks[mark.id]
        return Wording("%(done)s of %(given)s done", done=number(done), given=number(given))
    if here.people:
        return Wording("%(n)s here", n=number(here.people))
    return Wording("%(n)s came", n=number(mark.people))


def steps_inside(mark: Mark) -> str:
    """How many steps are folded into a mark, in words."""
    return str(count_of(len(mark.inside), "step"))


def _ruler(ruler: Ruler, lane: str) -> str:
    """The line of days above a lane, with a dotted line down from each, and what it is called."""
    top = ruler.top
    parts = [
        f'<path d="M34 {top + 52:.0f}H{ruler.right - 30:.0f}" stroke="{_INK}" '
        'stroke-opacity=".55" stroke-width="1.5"/>'
    ]
    if lane:
        parts.append(
            f'<text x="34" y="{top + 20:.0f}" font-size="13" font-weight="600" '
            f'fill="{_NAMED[0]}">{escape(Wording("Lane %(name)s", name=lane))}</text>'
        )
    before = ""
    for day in ruler.days:
        label = _passed(day.minutes)
        if label == before:
            continue
        before = label
        parts.append(
            f'<text x="{day.x:.0f}" y="{top + 40:.0f}" text-anchor="middle" font-size="12" '
            f'font-weight="600" fill="{_INK}">{escape(label)}</text>'
            f'<path d="M{day.x:.0f} {top + 56:.0f}V{ruler.foot - 8:.0f}" stroke="{_RULE}" '
            'stroke-dasharray="2 4"/>'
        )
    return "".join(parts)


def _passed(minutes: float) -> str:
    """How much time has passed at the least: “day 4”, “2 h”."""
    if minutes < 60:
        return Wording("day 0") if not minutes else Wording("%(n)s min", n=f"{minutes:.0f}")
    if minutes < 24 * 60:
        return Wording("%(n)s h", n=f"{minutes / 60:.0f}")
    return Wording("day %(n)s", n=f"{minutes // (24 * 60):.0f}")


def _stream(one: Stream, found: Map, most: int) -> str:
    """A piece of the river."""
    return (
        f'<path d="{_way(one)}" fill="none" stroke="{RIVER[one.tone]}" '
        f'stroke-width="{found.width_of(one.people, most):.1f}"/>'
    )


def _way(one: Stream) -> str:
    """The line of a piece of the river, bent where it changes its row: so that it passes under no
    label."""
    begins = one.x2 - _BEND if one.bends_late else one.x1
    ends = one.x2 if one.bends_late else one.x1 + _BEND
    half = (begins + ends) / 2
    way = f"M{one.x1:.0f} {one.y1:.0f}"
    if one.y1 != one.y2:
        way += (
            f"H{begins:.0f}C{half:.0f} {one.y1:.0f} {half:.0f} {one.y2:.0f} {ends:.0f} {one.y2:.0f}"
        )
    return f"{way}H{one.x2:.0f}"


def _path_name(one: Stream, paths: Mapping[str, tuple[Parting, Path]], names: Names) -> str:
    """What has to hold for a path, with how many took it, below where it begins; with the colour of
    the ground around the letters, since another path may pass under them."""
    assert one.label is not None
    step, path = paths[one.path]
    words = path_line(step, path, names)
    count = f" {in_language(number(one.people))}" if one.people else ""
    text = _cut(path.name or str(words.what), MOST_LETTERS - len(count)) + count
    place = (
        f'x="{one.label.x + one.label.width:.0f}" y="{one.label.y + 10:.0f}" '
        'text-anchor="end" font-size="11"'
    )
    around = f'fill="{_SHEET}" stroke="{_SHEET}" stroke-width="4" stroke-linejoin="round"'
    return (
        f'<text {place} {around} aria-hidden="true">{escape(text)}</text>'
        f'<text {place} fill="{_NAMED[one.tone]}">{escape(text)}</text>'
    )


def _mark(mark: Mark, found: Map, most: int, name: str, told: str, chosen: bool) -> str:
    """A short line across the river, with the name of the step above it."""
    tall = found.width_of(mark.people, most) / 2 + 4
    lit = (
        f'<rect x="{mark.x - 10:.0f}" y="{mark.y - tall - 4:.0f}" width="20" '
        f'height="{2 * tall + 8:.0f}" fill="#f6e7c4" stroke="{_HAY}"/>'
        if chosen
        else ""
    )
    top = mark.label.y
    middle = 'text-anchor="middle"'
    return (
        f'<a href="#line-{escape(mark.id)}">{lit}'
        f'<path d="M{mark.x:.0f} {mark.y - tall:.1f}V{mark.y + tall:.1f}" stroke="{_INK}" '
        f'stroke-width="{3 if mark.kind != "message" else 2.2}"/>'
        f'<text x="{mark.x:.0f}" y="{top + 11:.0f}" {middle} font-size="12" font-weight="600" '
        f'fill="{_INK}">{escape(_cut(name, MOST_LETTERS))}<title>{escape(name)}</title></text>'
        f'<text x="{mark.x:.0f}" y="{top + 24:.0f}" {middle} font-size="11" fill="{_DUSK}">'
        f"{escape(told)}</text></a>"
    )


def _cut(text: str, most: int) -> str:
    """A text of at most so many letters."""
    return text if len(text) <= most else f"{text[: most - 1].rstrip()}…"
