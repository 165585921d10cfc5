"""Pictures for the demo's messages, drawn here."""

import io
import random

from PIL import Image, ImageDraw


def _png(picture: Image.Image) -> bytes:
    out = io.BytesIO()
    picture.quantize(64).save(out, "PNG", optimize=True)
    return out.getvalue()


def dome() -> bytes:
    """The dome on its hill at dusk, under the first stars: 1200 × 480 pixels."""
    picture = Image.new("RGB", (1200, 480))
    draw = ImageDraw.Draw(picture)
    for y in range(480):
        part = y / 480
        draw.line(
            (0, y, 1200, y),
            fill=(round(24 + 60 * part), round(32 + 50 * part), round(64 + 40 * part)),
        )
    dice = random.Random(7)
    for _ in range(160):
        x, y, size = dice.randrange(1200), dice.randrange(330), dice.choice((1, 1, 2, 3))
        draw.ellipse((x, y, x + size, y + size), fill=(245, 240, 220))
    hill = [
        (0, 420),
        (200, 385),
        (430, 360),
        (600, 352),
        (790, 362),
        (1010, 392),
        (1200, 410),
        (1200, 480),
        (0, 480),
    ]
    draw.polygon(hill, fill=(16, 24, 32))
    draw.rectangle((520, 250, 680, 370), fill=(16, 24, 32))
    draw.pieslice((510, 160, 690, 340), 180, 360, fill=(16, 24, 32))
    draw.polygon([(592, 158), (628, 158), (640, 248), (604, 248)], fill=(222, 190, 120))
    return _png(picture)


def panel(what: str) -> bytes:
    """A small picture of a place on the hill: dome, library or shop; 360 × 220 pixels."""
    grounds = {"dome": (48, 78, 122), "library": (120, 98, 48), "shop": (74, 122, 92)}
    picture = Image.new("RGB", (360, 220), grounds[what])
    draw = ImageDraw.Draw(picture)
    light, dark = (245, 240, 220), tuple(c // 2 for c in grounds[what])
    if what == "dome":
        draw.rectangle((120, 130, 240, 220), fill=dark)
        draw.pieslice((115, 60, 245, 200), 180, 360, fill=dark)
        draw.polygon([(172, 60), (196, 60), (204, 130), (180, 130)], fill=light)
    elif what == "library":
        for n in range(11):
            draw.rectangle(
                (40 + n * 26, 60 + (n * 37) % 30, 60 + n * 26, 180), fill=light if n % 3 else dark
            )
        draw.rectangle((30, 180, 330, 190), fill=dark)
    else:
        draw.rectangle((80, 100, 280, 200), fill=dark)
        for n in range(5):
            draw.polygon(
                [(70 + n * 44, 80), (114 + n * 44, 80), (114 + n * 44, 112), (70 + n * 44, 112)],
                fill=light if n % 2 else dark,
            )
    return _png(picture)
