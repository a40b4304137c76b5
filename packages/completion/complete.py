"""Says how a command line of askport may go on: ``python3 -I -S complete.py WORD …``, the last one being typed.

The standard library only, and the commands from a list made when the package was built: the program itself takes too
long to start for a key. Each line of output is what may stand there, a tab, and what it is.
"""

import json
import os
import sys

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable
    from typing import Any

_ADAPTERS = "/sys/class/net"


def main(words: list[str]) -> None:
    """Print what the last word may become."""
    with open(os.path.join(os.path.dirname(os.path.abspath(__file__)), "commands.json"), encoding="utf-8") as file:
        command = json.load(file)
    *before, typed = words or [""]
    job, place, takes = "", 0, None
    for word in before:
        if takes is not None:
            job = word if takes == "job" else job
            takes = None
        elif word.startswith("-"):
            takes = command["options"].get(word, [None])[0]
        elif word in command["commands"]:
            command = command["commands"][word]
        else:
            job = word if _argument(command, place) == "job" else job
            place += 1
    if takes is not None:
        _values(takes, typed, job)
    elif typed.startswith("-"):
        _print(typed, ((name, says) for name, (_, says) in command["options"].items()))
    elif command["commands"]:
        _print(typed, ((name, each["says"]) for name, each in command["commands"].items()))
    else:
        _values(_argument(command, place), typed, job)


def _argument(command: "Any", place: int) -> str:
    kinds: list[str] = command["arguments"]
    if place < len(kinds):
        return kinds[place]
    return kinds[-1] if kinds and command["repeats"] else ""


def _values(kind: str, typed: str, job: str) -> None:
    if kind == "adapter":
        _print(typed, ((name, _link(name)) for name in sorted(os.listdir(_ADAPTERS)) if name != "lo"))
    elif kind == "tag":
        _print(typed, ((tag, "") for tag in _tags(job)))
    elif kind in ("file", "job"):
        _files(typed, ".askport" if kind == "job" else "")
    elif kind.startswith("="):
        _print(typed, ((each, "") for each in kind[1:].split("|")))


def _link(name: str) -> str:
    try:
        with open(os.path.join(_ADAPTERS, name, "operstate"), encoding="ascii") as file:
            return "link " + file.read().strip()
    except OSError:
        return ""


def _tags(job: str) -> list[str]:
    """Return the tags of a job file, of its plan and its register; none where it is not there or is none."""
    import sqlite3

    if not os.path.isfile(job):
        return []
    try:
        path = os.path.abspath(job).replace("%", "%25").replace("?", "%3f").replace("#", "%23")
        connection = sqlite3.connect(f"file:{path}?mode=ro", uri=True, timeout=0.02)
        rows = connection.execute("SELECT tag FROM planned UNION SELECT tag FROM devices ORDER BY 1").fetchall()
        return [str(tag) for (tag,) in rows if tag]
    except sqlite3.Error:
        return []


def _files(typed: str, ending: str) -> None:
    folder, _, begun = typed.rpartition("/")
    shown = folder + "/" if "/" in typed else ""
    try:
        found = sorted(os.scandir(os.path.expanduser(shown) or "."), key=lambda each: each.name)
    except OSError:
        return
    for each in found:
        if each.name.startswith(begun) and (begun or not each.name.startswith(".")):
            if each.is_dir():
                print(f"{shown}{each.name}/\t")
            elif each.name.endswith(ending):
                print(f"{shown}{each.name}\t")


def _print(typed: str, choices: "Iterable[tuple[str, str]]") -> None:
    for name, says in choices:
        if name.startswith(typed) and name.isprintable():
            print(f"{name}\t{says}")


if __name__ == "__main__":
    main(sys.argv[1:])
