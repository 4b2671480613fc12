"""Makes the fonts of documents: one weight each of the variable fonts of pages, which are drawn four times as fast.

Run it where those fonts change: python scripts/document_fonts.py
"""

import os
from pathlib import Path

os.environ["SOURCE_DATE_EPOCH"] = "0"

from fontTools.merge import Merger
from fontTools.ttLib import TTFont
from fontTools.varLib.instancer import instantiateVariableFont

ROOT = Path(__file__).parents[1] / "src/angelon"
VENDOR = ROOT / "web/static/vendor/fonts"
INTO = ROOT / "engine/documents/fonts"


def main() -> None:
    for name, weight in (("regular", 400), ("bold", 700)):
        parts = []
        for part in ("latin", "latin-ext"):
            font = TTFont(VENDOR / f"atkinson-hyperlegible-next-{part}-wght-normal.woff2")
            font.flavor = None
            instance = instantiateVariableFont(font, {"wght": weight}, inplace=True)
            path = INTO / f"{part}-{weight}.ttf"
            instance.save(path)
            parts.append(path)
        Merger().merge([str(path) for path in parts]).save(INTO / f"{name}.ttf")
        for path in parts:
            path.unlink()


if __name__ == "__main__":
    main()
