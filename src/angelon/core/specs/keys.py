"""What a thing is called by, made from what people call it."""

from __future__ import annotations

from slugify import slugify

LONGEST = 60


def key_of(name: str, separator: str = "-") -> str:
    """A key from a name in any script (`Größe` → `grosse`), at most LONGEST characters; empty where no letter or digit
    is left.
    """
    return str(slugify(name[:500], separator=separator, max_length=LONGEST, replacements=_GERMAN)).strip(separator)


_GERMAN = [["ä", "ae"], ["ö", "oe"], ["ü", "ue"], ["Ä", "Ae"], ["Ö", "Oe"], ["Ü", "Ue"], ["ß", "ss"]]
