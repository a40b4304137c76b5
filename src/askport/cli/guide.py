"""``askport guide``: what to do, by situation."""

from typing import Annotated

import typer

from askport.cli.saying import Status, say
from askport.core.text import display_text
from askport.edges.guide_text import fitting_parts, parts


def guide(
    words: Annotated[list[str] | None, typer.Argument(metavar="[WORD]…", help="What to look for.")] = None,
) -> None:
    """Print the part of the guide that fits some words.

    Without words, its headings. Exit status 1: the guide has nothing on that.

    Example: askport guide no device
    """
    if not words:
        print("\n".join(each.heading for each in parts()))
        say("askport guide WORD prints the part that fits.")
        return
    found = fitting_parts(words)
    if not found:
        shown = display_text(" ".join(words), 60)
        say("The guide has nothing about “{shown}”: 'askport guide' lists its parts.", shown=shown)
        raise typer.Exit(Status.NO)
    print("\n\n".join(f"## {each.heading}\n\n{each.text}" for each in found))
