"""On the kernel's own console: every sign of the program is one that its font has, and what differs still differs."""

import ast
import json
import os
import re
import subprocess
from functools import cache
from pathlib import Path

import pytest
from rich.cells import cell_len

from askport.core.plain_signs import FONT, encodable, plain
from conftest import ASKPORT

_SOURCES = [*Path("src/askport/tui").rglob("*.py"), *Path("src/askport/core").rglob("*.py")]


@cache
def our_signs():
    """Return all signs that stand in a text of the program."""
    found = set()
    for path in _SOURCES:
        if path.name != "plain_signs.py":
            texts = (each.value for each in ast.walk(ast.parse(path.read_text())) if isinstance(each, ast.Constant))
            found |= {sign for text in texts if isinstance(text, str) for sign in text if ord(sign) > 126}
    return found - set(re.findall(r"\s", "".join(found)))


def test_every_sign_of_ours_has_one_that_the_font_has():
    """As wide as before, and none is the question mark of what nobody thought of."""
    unthought = {each for each in our_signs() if plain(each) == "?" or not set(plain(each)) <= FONT}
    for encoding in ("ascii", "latin-1", "iso8859-15"):
        shown = {each: plain(each, encodable(encoding)) for each in our_signs()}
        assert "".join(shown.values()).encode(encoding)
        unthought |= {each for each, sign in shown.items() if sign == "?"}
    assert not {each for each in unthought if not each.isalnum()}
    assert all(cell_len(plain(each)) == cell_len(each) for each in (*our_signs(), "ő", "漢", "é"))


def test_what_tells_states_apart_still_does():
    for apart in ("○◇◌", "●◆", "━╌┈", "▁▆", "✓✗", "▸◂"):
        assert len({plain(each) for each in apart}) == len(apart), apart
        assert len({plain(each, encodable("ascii")) for each in apart}) == len(apart), apart


@pytest.mark.parametrize(
    ("environment", "enter", "signs"),
    [("TERM=linux", "Enter ►", FONT), ("PYTHONIOENCODING=ascii", "Enter >", frozenset(map(chr, range(32, 127))))],
)
def test_a_screen_without_our_signs_has_no_other_one(terminal, environment, enter, signs):
    screen = terminal(environment, ".venv/bin/askport", "demo")
    shown = set(screen.until("No device heard yet", enter)) - {"\n"}
    assert shown <= signs, shown - signs


@pytest.mark.long
@pytest.mark.parametrize("encoding", ["latin-1", "ascii"])
def test_a_command_prints_what_such_a_terminal_has_and_its_json_is_whole(encoding):
    env = os.environ | {"PYTHONIOENCODING": encoding}
    for command in (["doctor"], ["kinds", "list"], ["doctor", "--json"]):
        run = subprocess.run([*ASKPORT, *command], env=env, capture_output=True)
        assert b"fault" not in run.stderr + run.stdout, run
        assert run.stdout.decode(encoding)
        assert "--json" not in command or json.loads(run.stdout.decode(encoding))
