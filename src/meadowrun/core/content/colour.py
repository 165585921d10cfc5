"""Colours as people see them."""


def _linear(channel: int) -> float:
    part = channel / 255
    return part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4


def luminance(colour: str) -> float:
    """Relative luminance of #rrggbb, 0 for black to 1 for white (WCAG 2.1, “relative luminance”)."""
    red, green, blue = (int(colour[i:i + 2], 16) for i in (1, 3, 5))
    return 0.2126 * _linear(red) + 0.7152 * _linear(green) + 0.0722 * _linear(blue)


def contrast(one: str, other: str) -> float:
    """Contrast ratio of two colours, 1 to 21 (WCAG 2.1, “contrast ratio”)."""
    high, low = sorted((luminance(one), luminance(other)), reverse=True)
    return (high + 0.05) / (low + 0.05)
