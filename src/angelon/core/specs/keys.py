"""What a thing is called by, made from what people call it."""

from __future__ import annotations

from slugify import slugify

from angelon.core.problems import Invalid, Problem

LONGEST = 60


def key_of(name: str, separator: str = "-") -> str:
    """A key from a name in any script (`Größe` → `grosse`), at most LONGEST characters; empty where no letter or digit
    is left.
    """
    return str(slugify(name[:500], separator=separator, max_length=LONGEST, replacements=_GERMAN)).strip(separator)


def word_of(name: str, what: str, example: str) -> str:
    """A key that can stand in a text or path: it starts with a letter, its words are parted by `_`. Raises Invalid for
    a name that is too long, holds what can't be seen, or gives no such key; it says `what` it is of, and an `example`.
    """
    text = name.strip()
    key = key_of(text, "_")
    if len(text) > LONGEST:
        problem = f"The name has {len(text)} letters, and a {what} may have {LONGEST}."
    elif not all(sign.isprintable() for sign in text):
        problem = "The name holds a sign that can’t be seen."
    elif not key or not key[0].isalpha():
        problem = f"Give the {what} a name that starts with a letter."
    else:
        return key
    raise Invalid([Problem("name", problem, f"Such as {example}.")])


_GERMAN = [["ä", "ae"], ["ö", "oe"], ["ü", "ue"], ["Ä", "Ae"], ["Ö", "Oe"], ["Ü", "Ue"], ["ß", "ss"]]
