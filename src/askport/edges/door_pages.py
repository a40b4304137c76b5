"""The door's own pages: what a browser is told where the device cannot tell it."""

from html import escape

from askport.core.phrases import phrase

_PAGE = """<!doctype html><html lang="en"><meta charset="utf-8">{refresh}<title>{title}</title>
<style>body{{font:1.1rem/1.5 sans-serif;margin:12vh auto;max-width:34rem;padding:0 1rem}}</style>
<h1>{title}</h1><p>{text}</p>{link}</html>"""


def own_page(title: str, text: str, *, link: str = "", again_s: int = 0) -> bytes:
    """Return a page, with what its link to the device's first page says, and after how long it asks again."""
    return _PAGE.format(
        title=escape(title), text=escape(text), link=f'<p><a href="/">{escape(link)}</a></p>' if link else "",
        refresh=phrase("<meta http-equiv=\"refresh\" content=\"{again_s}\">", again_s=again_s) if again_s else "",
    ).encode()  # fmt: skip


def moved(where: str) -> bytes:
    """Return the page that says that the device has moved."""
    return own_page(
        phrase("It has moved to {where}", where=where), phrase("Go on in Ask Port."), link=phrase("Open its page there")
    )


def moves(where: str) -> bytes:
    """Return the page that waits for the device to show itself where its own page leads."""
    return own_page(
        phrase("Its page leads to {where}", where=where),
        phrase(
            "If you have just given it that address, go on in Ask Port: it follows the device, and this page with it."
        ),
        link=phrase("Back to its page"), again_s=2,
    )  # fmt: skip


def silent(fault: str) -> bytes:
    """Return the page for a device that does not answer; it asks again by itself."""
    return own_page(
        phrase("It does not answer"),
        phrase("{fault} If you have just changed its address, go on in Ask Port, which follows it.", fault=fault),
        link=phrase("Try again"), again_s=3,
    )  # fmt: skip


def refused(why: str) -> bytes:
    """Return the page for whoever is not let in."""
    return own_page(
        phrase("Not let in"),
        phrase("This door is for the one browser that Ask Port has handed its address to: {why}.", why=why),
    )
