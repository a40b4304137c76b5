"""Writes docs/keys.md out of the table that the program makes its keys of."""

from pathlib import Path

from askport.tui.actions import ACTIONS

PAGE = Path(__file__).with_name("keys.md")
START, END = "<!-- keys, written by docs/keys.py -->\n", "<!-- end of keys -->"
_NAMES = {"plus,equals_sign": "+", "minus": "-", "enter": "Enter", "space": "Space", "up,k": "↑", "down,j": "↓"}


def table() -> str:
    """Return the list as it stands in the PAGE."""
    rows = [
        f"| {_NAMES.get(each.key, each.key)} | {each.title} | {each.says} |"
        for each in ACTIONS
        if each.shown or each.name == "point"
    ]
    more = [
        "| 7 to 9 | It is this one | Decide which device of the plan it is, where plan, choice and register differ |",
        "| 1 to 6 | View step | View a step of the way; Escape comes back |",
        "| ? | Keys | Every key, and what it does now |",
    ]
    more += ["| t | Light or dark | A light or a dark screen |", "| q | Quit | Give everything back and quit |"]
    return "\n".join(["| key | | what it does |", "|---|---|---|", *rows, *more]) + "\n"


if __name__ == "__main__":
    text = PAGE.read_text()
    before, _, rest = text.partition(START)
    PAGE.write_text(before + START + table() + END + rest.partition(END)[2])
