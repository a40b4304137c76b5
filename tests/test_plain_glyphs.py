"""On the kernel's own console: every sign of the program is one that its font has, and what differs still differs."""

import ast
import re
from pathlib import Path

from rich.cells import cell_len

from askport.tui.plain_glyphs import FONT, plain

_SOURCES = [*Path("src/askport/tui").rglob("*.py"), *Path("src/askport/core").rglob("*.py")]


def our_signs():
    """Return all signs that stand in a text of the program."""
    found = set()
    for path in _SOURCES:
        if path.name != "plain_glyphs.py":
            texts = (each.value for each in ast.walk(ast.parse(path.read_text())) if isinstance(each, ast.Constant))
            found |= {sign for text in texts if isinstance(text, str) for sign in text if ord(sign) > 126}
    return found - set(re.findall(r"\s", "".join(found)))


def test_every_sign_of_ours_has_one_that_the_font_has():
    """As wide as before, and none is the question mark of what nobody thought of."""
    unthought = {each for each in our_signs() if plain(each) == "?" or not set(plain(each)) <= FONT}
    assert not {each for each in unthought if not each.isalnum()}
    assert all(cell_len(plain(each)) == cell_len(each) for each in (*our_signs(), "ő", "漢", "é"))


def test_what_tells_states_apart_still_does():
    for apart in ("○◇◌", "●◆", "━╌┈", "▁▆", "✓✗", "▸◂"):
        assert len({plain(each) for each in apart}) == len(apart), apart


def test_a_screen_on_such_a_console_has_no_other_sign(terminal):
    screen = terminal("TERM=linux", ".venv/bin/askport", "demo")
    shown = set(screen.until("Nobody has spoken yet", "Enter ►")) - {"\n"}
    assert shown <= FONT, shown - FONT
