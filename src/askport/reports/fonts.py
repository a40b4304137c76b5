"""The fonts of paged documents, which come with the program, so that these are the same anywhere; and texts in them."""

from functools import lru_cache
from importlib.resources import files

PLAIN, BOLD = "Sheet", "Sheet-Bold"
_TYPEFACES = files("askport.reports").joinpath("typefaces")


@lru_cache(maxsize=1)
def fonts() -> frozenset[int]:
    """Register the fonts of all documents; return which characters they have."""
    from reportlab.pdfbase import pdfmetrics
    from reportlab.pdfbase.ttfonts import TTFont

    for name, path in ((PLAIN, "DejaVuSans.ttf"), (BOLD, "DejaVuSans-Bold.ttf")):
        pdfmetrics.registerFont(TTFont(name, str(_TYPEFACES.joinpath(path))))
    pdfmetrics.registerFontFamily(PLAIN, normal=PLAIN, bold=BOLD, italic=PLAIN, boldItalic=BOLD)
    return frozenset(pdfmetrics.getFont(PLAIN).face.charToGlyph)


def in_font(text: str) -> str:
    """Return a text in which what the fonts do not have stands as its number."""
    has = fonts()
    return "".join(each if ord(each) in has or each == " " else f"[U+{ord(each):04X}]" for each in text)
