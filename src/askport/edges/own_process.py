"""A process of this program's own: one of its modules, by the interpreter and from the folder that this one runs from.

``python -m`` would look for the package by itself, and not find it where it was put beside the interpreter's own
(``pip install --target``). Python is started isolated (``-I``), so that neither environment nor directory has a say;
the folder is handed over. A program that is its own interpreter, as PyInstaller makes them, is started as itself.
"""

import runpy
import sys
from pathlib import Path

_OWN = "--own-process"
_MODULES = frozenset(f"askport.edges.{each}" for each in ("keeper", "inside", "trial"))
_FOLDER = str(Path(__file__).resolve().parents[2])
_CODE = "import sys; sys.path.insert(0, sys.argv.pop(1)); from askport.edges.own_process import become; become()"


def command_for(module: str, *arguments: str) -> list[str]:
    """Return the command that starts a module of this program, with its arguments."""
    if getattr(sys, "frozen", False):
        return [sys.executable, _OWN, module, *arguments]
    return [sys.executable, "-I", "-c", _CODE, _FOLDER, _OWN, module, *arguments]


def become() -> None:
    """Go on as the module that stands in the arguments, where one does; return otherwise."""
    if len(sys.argv) < 3 or sys.argv[1] != _OWN or sys.argv[2] not in _MODULES:
        return
    module = sys.argv.pop(2)
    sys.argv.pop(1)
    runpy.run_module(module, run_name="__main__", alter_sys=True)
    raise SystemExit(0)
