"""Between a document's text, where fill-ins are Jinja, and the editor's, where they are coloured words."""

from markupsafe import Markup, escape

from meadowrun.core.content import fillins


def words_of(fill: fillins.FillIn, labels: dict[str, str]) -> str:
    """How a fill-in reads: “first name, or “friend””."""
    root, _, key = fill.ref.partition(".")
    label = labels.get(fill.ref) or key.replace("_", " ")
    if fill.fallback:
        label += f", or “{fill.fallback}”"
    return label


def chip(fill: fillins.FillIn, labels: dict[str, str]) -> Markup:
    """A fill-in as one word that the caret steps over."""
    kind = "fill fact" if fill.ref.startswith("fact.") else "fill"
    return Markup('<span class="{}" contenteditable="false" data-fill="{}" data-ref="{}" data-fallback="{}">{}</span>'
                  ).format(kind, fill.source(), fill.ref, fill.fallback or "", words_of(fill, labels))


def plain(text: str, labels: dict[str, str]) -> Markup:
    """A one-line text for the editor."""
    return Markup("").join(chip(p, labels) if isinstance(p, fillins.FillIn) else escape(p) for p in fillins.split(text))


def rich(html: str, labels: dict[str, str]) -> Markup:
    """A rich text, clean already, for the editor. Fill-ins inside a link's address stay as they are."""
    found, inside_tag = [], False
    for part in fillins.split(html):
        if isinstance(part, fillins.FillIn):
            found.append(str(escape(part.source())) if inside_tag else str(chip(part, labels)))
        else:
            last_open, last_close = part.rfind("<"), part.rfind(">")
            if last_open != -1 or last_close != -1:
                inside_tag = last_open > last_close
            found.append(part)
    return Markup("".join(found))
