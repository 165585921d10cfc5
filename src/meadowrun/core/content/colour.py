"""Colours as people see them."""


def _linear(channel: int) -> float:
    part = channel / 255
    return part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4


def luminance(colour: str) -> float:
    """Relative luminance of #rrggbb, 0 for black to 1 for white (WCAG 2.1, “relative
    luminance”)."""
    red, green, blue = (int(colour[i : i + 2], 16) for i in (1, 3, 5))
    return 0.2126 * _linear(red) + 0.7152 * _linear(green) + 0.0722 * _linear(blue)


def blended(one: str, other: str, share: float) -> str:
    """A colour between two: so much of the first, the rest of the other."""
    return "#" + "".join(
        f"{round(int(one[i : i + 2], 16) * share + int(other[i : i + 2], 16) * (1 - share)):02x}"
        for i in (1, 3, 5)
    )


def quiet(ink: str, ground: str, least: float = 4.5) -> str:
    """A quieter ink that can still be read on its ground: as near to the ground as the contrast
    `least` allows."""
    return next(
        (
            found
            for share in (0.7, 0.8, 0.9)
            if contrast(found := blended(ink, ground, share), ground) >= least
        ),
        ink,
    )


def readable(colour: str, ground: str, least: float = 4.5) -> str:
    """A colour made lighter until it can be read on a dark ground."""
    return next(
        (
            found
            for share in (1.0, 0.8, 0.6, 0.4, 0.2)
            if contrast(found := blended(colour, "#ffffff", share), ground) >= least
        ),
        "#ffffff",
    )


def contrast(one: str, other: str) -> float:
    """Contrast ratio of two colours, 1 to 21 (WCAG 2.1, “contrast ratio”)."""
    high, low = sorted((luminance(one), luminance(other)), reverse=True)
    return (high + 0.05) / (low + 0.05)
