"""Writes what is made from the commands: the list that completion reads, and a manual page for each."""

import json
import os
import re
import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import typer

from askport.cli.main import application
from making import HERE, emptied, run, version

_CHOICES = {"loudness": "=listen|greet|call|sweep", "over": "=telnet|ssh", "log_level": "=debug|info|warning"}
_BY_NAME = {"adapter": "adapter", "tag": "tag", "password_from": "file", "labels": "file", "serial": "file",
            "kind": "file"} | dict.fromkeys(("job", "job_option", "where", "other", "filled_from"), "job")  # fmt: skip


def _kind(parameter: Any) -> str:
    """Return what stands there: an adapter, a tag, a job, a file, one of a few words, or anything."""
    from askport.core.ways.table import WAYS

    if parameter.name == "by":
        return "=" + "|".join(WAYS)
    named = _CHOICES.get(parameter.name) or _BY_NAME.get(parameter.name)
    return named or ("file" if type(parameter.type).__name__ == "TyperPath" else "")


def table(command: Any) -> dict[str, Any]:
    """Return a command with its options, arguments and the commands in it."""
    options = {"--help": [None, "Show this message and exit."]}
    arguments: list[str] = []
    repeats = False
    for each in command.params:
        if type(each).__name__.endswith("Argument"):
            arguments.append(_kind(each))
            repeats = each.nargs == -1
        else:
            says = (getattr(each, "help", "") or "").split("\n")[0]
            options |= {name: [None if each.is_flag else _kind(each), says] for name in each.opts}
    own = {name: table(each) for name, each in getattr(command, "commands", {}).items()}
    says = (command.help or "").split("\n")[0]
    return {"says": says, "options": options, "arguments": arguments, "repeats": repeats, "commands": own}


def write_completion(folder: Path, complete: str) -> None:
    """Write the three shells' files, the list, and what reads it, which ``complete`` starts."""
    own = table(typer.main.get_command(application()))
    (folder / "commands.json").write_text(json.dumps(own, ensure_ascii=False, sort_keys=True, indent=1) + "\n")
    (folder / "complete.py").write_text((HERE / "completion/complete.py").read_text())
    for shell in ("bash", "zsh", "fish"):
        text = (HERE / f"completion/askport.{shell}").read_text().replace("@COMPLETE@", complete)
        (folder / f"askport.{shell}").write_text(text)


def _paths(own: dict[str, Any], path: tuple[str, ...] = ()) -> list[tuple[tuple[str, ...], str]]:
    found = [(path, own["says"])]
    for name, each in own["commands"].items():
        found += _paths(each, (*path, name))
    return found


def write_manual(folder: Path) -> None:
    """Write a manual page for the program and one for each command, from what ``--help`` says."""
    emptied(folder)
    # By its name: a path is put before a shell as it is, spaces and all.
    place = f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"

    def write(named: tuple[tuple[str, ...], str]) -> None:
        path, says = named
        words = re.sub(r"\.$", "", says)[:1].lower() + re.sub(r"\.$", "", says)[1:]
        text = run("help2man", "--no-info", "--no-discard-stderr", f"--version-string={version()}", f"--name={words}",
                   "--manual=Ask Port", "--source=Ask Port", " ".join(["askport", *path]),
                   env={"PATH": place, "COLUMNS": "100", "LC_ALL": "C.UTF-8"})  # fmt: skip
        called = "-".join(("askport", *path))
        text = text.replace(".TH ASKPORT ", f".TH {called.upper()} ", 1)
        text = text.replace(f"{' '.join(('askport', *path))} \\-", f"{called} \\-", 1).replace(".IP\n", "", 1)
        (folder / f"{called}.1").write_text(text)

    with ThreadPoolExecutor(4) as several:
        list(several.map(write, _paths(table(typer.main.get_command(application())))))
