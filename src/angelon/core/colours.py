"""Colours, and whether text on them can be read (WCAG 2.2, sections 1.4.3 and "relative luminance")."""

from __future__ import annotations

ENOUGH = 4.5
"""The contrast that text of usual size needs (WCAG 2.2, level AA)."""


def luminance(colour: str) -> float:
    """The relative luminance of `#rrggbb`, from 0 (black) to 1 (white)."""
    red, passed, blue = (int(colour[start : start + 2], 16) / 255 for start in (1, 3, 5))
    linear = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in (red, passed, blue)]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def contrast(one: str, other: str) -> float:
    """The contrast ratio of two colours, from 1 to 21."""
    light, dark = sorted((luminance(one), luminance(other)), reverse=True)
    return (light + 0.05) / (dark + 0.05)


def ink_on(ground: str) -> str:
    """White or near-black: whichever reads better on a ground."""
    return "#ffffff" if contrast("#ffffff", ground) >= contrast("#1d232c", ground) else "#1d232c"


def readable_on(ground: str, colour: str) -> str:
    """A colour that reads on a ground: the same where it does, else mixed with white or near-black until it does."""
    towards, mixed = ink_on(ground), colour
    for part in range(1, 11):
        if contrast(mixed, ground) >= ENOUGH:
            break
        mixed = "#" + "".join(
            f"{round(int(colour[at : at + 2], 16) * (10 - part) / 10 + int(towards[at : at + 2], 16) * part / 10):02x}"
            for at in (1, 3, 5)
        )
    return mixed
