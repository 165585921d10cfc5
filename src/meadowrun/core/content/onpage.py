"""An in-app message drawn on a website, for reading it while it is written: the page behind it is
only hinted at."""

import html
import re
from collections.abc import Mapping
from typing import Any

from meadowrun.core.content.lines import Json

_BODY = re.compile(r"<body[^>]*>", re.IGNORECASE)
_HINT = (
    '<div class="mr-top"></div><div class="mr-bar" style="width:46%"></div><div class="mr-bar" '
    'style="width:82%"></div>'
    '<div class="mr-bar" style="width:74%"></div><div class="mr-block"></div><div class="mr-bar" '
    'style="width:66%"></div>'
    '<div class="mr-bar" style="width:80%"></div><div class="mr-bar" style="width:58%"></div>'
)


def on_page(page: str, in_app: Mapping[str, Any], looks: Json) -> str:
    """The filled-in page of an in-app message's lines with its buttons, standing on a website as
    its shape says."""
    full = in_app["shape"] == "full"
    buttons = "".join(
        f'<span class="mr-button{"" if n else " mr-first"}">{html.escape(b["label"]) or "…"}</span>'
        for n, b in enumerate(in_app["buttons"])
    )
    box = (
        "margin:0;min-height:640px;border-radius:0;display:flex;flex-direction:column;justify-content:center"
        if full
        else (
            f"width:min({looks['width']}px,100%);margin:44px "
            f"auto;border-radius:{looks['round']}px;box-shadow:0 18px 60px rgba(0,0,0,.35)"
        )
    )
    style = (
        "<style>html{background:#cfd6d1}body{margin:0!important;padding:0!important;background:none!important;position:relative;min-height:640px}"
        ".mr-page{position:absolute;inset:0;overflow:hidden;background:#f6f7f5;padding:0 24px}"
        ".mr-page::after{content:'';position:absolute;inset:0;background:rgba(18,24,21,.5)}"
        ".mr-top{height:44px;margin:0 -24px "
        "28px;background:#3b4a44}.mr-bar{height:12px;margin:14px 0;background:#d7ddd9}"
        ".mr-block{height:150px;margin:26px 0;background:#dfe4e0}"
        f".mr-in-app{{position:relative;box-sizing:border-box;overflow:hidden;background:{looks['sheet']};color:{looks['ink']};{box}}}"
        f".mr-wrap{{padding:{'0' if full else '1px 16px'};position:relative}}"
        f".mr-x{{position:absolute;top:8px;right:14px;font:22px/1 sans-serif;color:{looks['ink']}}}"
        ".mr-doing{display:flex;flex-wrap:wrap;gap:10px;justify-content:center;padding:4px 24px "
        "24px}"
        f".mr-button{{font:16px {looks['text_font']};padding:11px 22px;border:1px solid "
        f"{looks['accent']};color:{looks['accent']};"
        f"border-radius:{looks['round']}px}}.mr-first{{background:{looks['accent']};color:{looks['on_accent']}}}</style>"
    )
    before = (
        f'<div class="mr-page">{_HINT}</div><div class="mr-wrap"><div class="mr-in-app"><span '
        'class="mr-x">×</span>'
    )
    page = _BODY.sub(lambda m: m.group() + before, page, count=1)
    return page.replace("</head>", f"{style}</head>", 1).replace(
        "</body>", f'<div class="mr-doing">{buttons}</div></div></div></body>', 1
    )
