"""The fonts of paged documents, and texts in them."""

from functools import lru_cache
from importlib.util import find_spec
from pathlib import Path

PLAIN, BOLD = "Sheet", "Sheet-Bold"
_DEJAVU = Path("/usr/share/fonts/truetype/dejavu")


@lru_cache(maxsize=1)
def fonts() -> frozenset[int]:
    """Register the fonts of all documents; return which characters they have."""
    from reportlab.pdfbase import pdfmetrics
    from reportlab.pdfbase.ttfonts import TTFont

    own = Path(str((find_spec("reportlab") or find_spec("os")).origin)).parent / "fonts"  # type: ignore[union-attr]
    plain, bold = _DEJAVU / "DejaVuSans.ttf", _DEJAVU / "DejaVuSans-Bold.ttf"
    if not (plain.exists() and bold.exists()):
        plain, bold = own / "Vera.ttf", own / "VeraBd.ttf"
    for name, path in ((PLAIN, plain), (BOLD, bold)):
        pdfmetrics.registerFont(TTFont(name, str(path)))
    pdfmetrics.registerFontFamily(PLAIN, normal=PLAIN, bold=BOLD, italic=PLAIN, boldItalic=BOLD)
    return frozenset(pdfmetrics.getFont(PLAIN).face.charToGlyph)


def in_font(text: str) -> str:
    """Return a text in which what the fonts do not have stands as its number."""
    has = fonts()
    return "".join(each if ord(each) in has or each == " " else f"[U+{ord(each):04X}]" for each in text)
