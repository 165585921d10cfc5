"""A document laid out as MJML, which becomes HTML that every mail reader can show."""

import functools
import html
from collections.abc import Callable, Sequence

from meadowrun.core.content import fillins
from meadowrun.core.content.colour import blended, luminance, quiet, readable
from meadowrun.core.content.lines import Json, icon_name

_PAD = "8px 28px"
#: Classes by which the dark style sheet knows what it changes.
GROUND, SHEET, INK = "our-ground", "our-sheet", "our-ink"
#: The colour of a divider that has none of its own.
RULE = "#d9d3c2"
_PAD_IN_COLUMN = "6px 12px"


class Parts:
    """Hides Jinja behind plain words and brings it back, so that compiler and inliner do not damage
    it.

    Whole blocks of HTML from elsewhere are kept aside in the same way, until the compiler is done.
    """

    def __init__(self) -> None:
        self.sources: list[str] = []
        self.blocks: list[str] = []

    def hide(self, source: str) -> str:
        self.sources.append(source)
        return f"MRPART{len(self.sources) - 1}X"

    def tag(self, source: str, in_column: bool = False) -> str:
        """A tag between lines.

        Between the rows of a column only a comment stays in its place. Between sections the
        compiler puts what stands there into the comments that only some mail apps read, exactly
        between two of their rows: there a comment would end them.
        """
        word = self.hide(source)
        return f"<mj-raw><!--{word}--></mj-raw>" if in_column else f"<mj-raw>{word}</mj-raw>"

    def hide_in(self, text: str, tags_as_comments: bool = False) -> str:
        """The text with its fill-ins and tags hidden. Between the cells of a table only comments
        stay where they are."""
        made, inside = [], False
        for part in fillins.split(text):
            if isinstance(part, str):
                last_open, last_close = part.rfind("<"), part.rfind(">")
                inside = last_open > last_close if max(last_open, last_close) >= 0 else inside
                made.append(part)
            else:
                word = self.hide(part.source())
                made.append(
                    f"<!--{word}-->"
                    if tags_as_comments and isinstance(part, fillins.Tag) and not inside
                    else word
                )
        return "".join(made)

    def block(self, code: str) -> str:
        self.blocks.append(self.hide_in(code, tags_as_comments=True))
        return f"MRCODE{len(self.blocks) - 1}X"

    def attribute(self, text: str) -> str:
        return html.escape(self.hide_in(text))


def mjml(
    document: Json,
    lines: Sequence[Json],
    parts: Parts,
    public_url: str,
    legal: str,
    marked: bool = False,
) -> str:
    """The document as MJML, fill-ins hidden in `parts`. `lines` are its live lines, shared parts
    already in their places.

    With `marked`, what comes of a line carries a class with its id, by which an editor finds it.
    """
    looks = document["settings"]
    work = _Layout(looks, parts, public_url, legal, marked)
    return (
        f"<mjml><mj-head><mj-title>{parts.attribute(document['subject'])}</mj-title>"
        f"<mj-preview>{parts.attribute(document['preheader'])}</mj-preview><mj-attributes>"
        f'<mj-text color="{looks["ink"]}" font-size="{looks["size"]}px" line-height="1.5" '
        f'font-family="{html.escape(looks["text_font"])}" padding="{_PAD}" />'
        f'<mj-all font-family="{html.escape(looks["text_font"])}" />'
        f"</mj-attributes><mj-style>{own_style(looks['accent'])}</mj-style>{dark_head(looks)}</mj-head>"
        f'<mj-body width="{looks["width"]}px" background-color="{looks["ground"]}" '
        f'css-class="{GROUND}">'
        f'<mj-wrapper background-color="{looks["sheet"]}" padding="16px 0" '
        f'css-class="{SHEET}">{work.sections(lines)}</mj-wrapper>'
        "</mj-body></mjml>"
    )


def own_style(accent: str) -> str:
    """The style sheet of every message of lines."""
    return (
        f"a {{ color: {accent}; }} p {{ margin: 0 0 12px; }} .plain-list ul {{ margin: 0 0 12px; }}"
    )


def dark_head(looks: Json) -> str:
    """What mail apps that ask for it show in the dark: the same hues on a dark sheet. Nothing where
    the sheet is dark already.

    Words with a colour of their own, buttons and pictures stay as they are.
    """
    if luminance(looks["sheet"]) < 0.5:
        return ""
    sheet, ground = blended(looks["ink"], "#101413", 0.12), blended(looks["ink"], "#101413", 0.05)
    words, links = blended(looks["sheet"], sheet, 0.88), readable(looks["accent"], sheet)
    return (
        '<mj-raw><meta name="color-scheme" content="light dark"><meta '
        'name="supported-color-schemes" content="light dark"></mj-raw>'
        f"<mj-style>@media (prefers-color-scheme: dark) {{ body, .{GROUND} "
        f"{{ background-color: {ground} !important; }} .{SHEET}, .{SHEET} table "
        f"{{ background: {sheet} !important; background-color: {sheet} !important; }} .{INK} div, "
        f".{INK} h1, .{INK} p {{ color: {words} !important; }} .{INK} div a, .{INK} p a "
        f"{{ color: {links} !important; }} }}</mj-style>"
    )


class _Layout:
    def __init__(self, looks: Json, parts: Parts, public_url: str, legal: str, marked: bool):
        self.looks, self.parts, self.public_url, self.legal, self.marked = (
            looks,
            parts,
            public_url,
            legal,
            marked,
        )

    def sections(self, lines: Sequence[Json]) -> str:
        """Lines one under the other: simple ones share a section; columns and conditions stand
        between sections."""
        made: list[str] = []
        simple: list[str] = []

        def flush() -> None:
            if simple:
                made.append(
                    f"{self._section()}<mj-column>{''.join(simple)}</mj-column></mj-section>"
                )
                simple.clear()

        for line in lines:
            if line["type"] == "columns":
                flush()
                made.append(self._columns(line))
            elif line["type"] == "only":
                flush()
                made.append(self._only(line, self.sections, in_column=False))
            elif line["type"] == "feed":
                flush()
                made.append(
                    self._feed(
                        line,
                        f"{self._section()}<mj-column>",
                        "</mj-column></mj-section>",
                        _PAD,
                        in_column=False,
                    )
                )
            else:
                simple.append(self._line(line, _PAD, self.looks["width"] - 56))
        flush()
        return "".join(made)

    def _section(self, more: str = "") -> str:
        return (
            f'<mj-section background-color="{self.looks["sheet"]}" padding="0" '
            f'css-class="{SHEET}"{more}>'
        )

    def _columns(self, line: Json) -> str:
        width = self.looks["width"] - 32
        columns = []
        for share, held in zip(line["split"], line["columns"], strict=True):
            inner = round(width * share / 100) - 24
            columns.append(f'<mj-column width="{share}%">{self._stack(held, inner)}</mj-column>')
        if line["reverse"]:
            # On phones columns stand in the order of the source; right to left, the eye sees the
            # author's order on a desk.
            columns.reverse()
        return (
            self._section(' direction="rtl"' if line["reverse"] else "").replace(
                'padding="0"', 'padding="4px 16px"'
            )
            + "".join(columns)
            + "</mj-section>"
        )

    def _stack(self, lines: Sequence[Json], width: int) -> str:
        """Lines inside one column."""
        made = []
        for line in lines:
            if line["type"] == "only":
                made.append(self._only(line, lambda held: self._stack(held, width), in_column=True))
            elif line["type"] == "feed":
                made.append(self._feed(line, "", "", _PAD_IN_COLUMN, in_column=True))
            elif line["type"] == "columns":
                # Columns of a shared part inside a column: one under the other.
                made += [self._stack(held, width) for held in line["columns"]]
            else:
                made.append(self._line(line, _PAD_IN_COLUMN, width))
        return "".join(made)

    def _only(self, line: Json, lay: Callable[[Sequence[Json]], str], in_column: bool) -> str:
        made, tag = [], functools.partial(self.parts.tag, in_column=in_column)
        for place, (test, held) in enumerate(branches(line)):
            made.append(tag(f"{{% {'elif' if place else 'if'} {test} %}}") + lay(held))
        if not made:
            return lay(line["otherwise"])
        if line["otherwise"]:
            made.append(tag("{% else %}") + lay(line["otherwise"]))
        return "".join(made) + tag("{% endif %}")

    def _feed(self, line: Json, before: str, after: str, pad: str, in_column: bool) -> str:
        if not line["feed"]:
            return ""
        loop = f"{{% for item in feed.{line['feed']}[:{line['most']}] %}}"
        body = (
            f"{before}<mj-text "
            f'padding="{pad}"{self._class(line, INK)}>'
            f"{self.parts.hide_in(line['html'])}</mj-text>{after}"
        )
        return self.parts.tag(loop, in_column) + body + self.parts.tag("{% endfor %}", in_column)

    def _class(self, line: Json, more: str = "") -> str:
        names = " ".join(filter(None, (f"ln-{line['id']}" if self.marked else "", more)))
        return f' css-class="{names}"' if names else ""

    def _line(self, line: Json, pad: str, width: int) -> str:
        made = self._component(line, pad, width)
        return (
            made.replace(" ", self._class(line) + " ", 1)
            if self.marked and "css-class" not in made[:200]
            else made
        )

    def _component(self, line: Json, pad: str, width: int) -> str:
        looks, parts, kind = self.looks, self.parts, line["type"]
        ink = f' color="{line["colour"]}"' if line.get("colour") else ""
        if kind == "heading":
            font = html.escape(looks["heading_font"])
            looked = self._class(line, "" if ink else INK)
            return (
                f'<mj-text{looked} align="{line["align"]}" font-family="{font}" font-size="26px" '
                f'line-height="1.25"{ink} '
                f'padding="{pad}" font-weight="600"><h1 '
                'style="margin:0;font-size:26px;font-weight:600">'
                f"{parts.attribute(line['text'])}</h1></mj-text>"
            )
        if kind == "text":
            own = "plain-list" if ink else f"plain-list {INK}"
            return (
                f'<mj-text align="{line["align"]}"{ink} '
                f'padding="{pad}"{self._class(line, own)}>{parts.hide_in(line["html"])}</mj-text>'
            )
        if kind == "picture":
            return self._picture(line, pad, width)
        if kind == "button":
            fill, words = line["fill"] or looks["accent"], line["colour"] or looks["on_accent"]
            return (
                f'<mj-button href="{parts.attribute(line["href"])}" align="{line["align"]}" '
                f'background-color="{fill}" '
                f'color="{words}" border-radius="{looks["round"]}px" font-size="16px" '
                'inner-padding="12px 26px" '
                f'padding="{pad}">{parts.attribute(line["label"])}</mj-button>'
            )
        if kind == "divider":
            return (
                f'<mj-divider border-width="1px" border-color="{line["colour"] or RULE}" '
                'padding="12px 28px" />'
            )
        if kind == "space":
            return f'<mj-spacer height="{line["height"]}px" />'
        if kind == "icons":
            return self._icons(line, pad)
        if kind == "quote":
            by = (
                f'<p style="margin:0;font-size:14px">{parts.attribute(line["by"])}</p>'
                if line["by"]
                else ""
            )
            return (
                f'<mj-text padding="{pad}"{self._class(line, INK)}><blockquote '
                'style="margin:0;padding:6px 0 6px 16px;'
                "border-left:3px solid "
                f'{looks["accent"]}">{parts.hide_in(line["html"])}{by}</blockquote></mj-text>'
            )
        if kind == "code":
            return f'<mj-text padding="0">{parts.block(line["code"])}</mj-text>'
        small = quiet(looks["ink"], looks["sheet"])
        return (
            f'<mj-text{self._class(line, INK)} font-size="13px" color="{small}" padding="16px '
            '28px 4px">'
            f"{parts.hide_in(line['html'])}{self.legal if line['unsubscribe'] else ''}</mj-text>"
        )

    def _picture(self, line: Json, pad: str, width: int) -> str:
        if not line["src"]:
            return ""
        shown = max(16, round(width * line["width"] / 100))
        # Of a picture of the store the kept size that is sharp on fine screens: twice as wide as it
        # is shown.
        source = (
            f"{self.public_url}{line['src']}?w={2 * shown}"
            if line["src"].startswith("/")
            else line["src"]
        )
        link = f' href="{self.parts.attribute(line["link"])}"' if line["link"] else ""
        return (
            f'<mj-image src="{self.parts.attribute(source)}" '
            f'alt="{self.parts.attribute(line["alt"])}" align="{line["align"]}" '
            f'width="{shown}px"{link} padding="{pad}" />'
        )

    def _icons(self, line: Json, pad: str) -> str:
        made = "".join(
            f'<mj-social-element src="{self.public_url}/static/icons/{i["icon"]}.png" '
            f'href="{self.parts.attribute(i["href"])}" '
            f'alt="{self.parts.attribute(icon_name(i))}" '
            f'background-color="{self.looks["sheet"]}"></mj-social-element>'
            for i in line["icons"]
            if i["href"]
        )
        return (
            (
                '<mj-social icon-size="28px" icon-padding="6px" mode="horizontal" '
                f'align="{line["align"]}" padding="{pad}">{made}</mj-social>'
            )
            if made
            else ""
        )


def branches(line: Json) -> list[tuple[str, list[Json]]]:
    """What each version of an “only if” line asks, in order, with its lines."""
    if line["grouping"]:
        return [
            (f"group.g{line['grouping']} == {fillins.quoted(case['group'])}", case["content"])
            for case in line["cases"]
        ]
    return [(f"when.{answer_key(case)}", case["content"]) for case in line["cases"]]


def answer_key(case: Json) -> str:
    """The name under which the answer to a version's condition is known; an id may begin with a
    digit, a name may not."""
    return f"k{case['id']}"
