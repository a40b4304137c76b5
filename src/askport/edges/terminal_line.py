"""The technician's own terminal on a device's console: bytes as they are, both ways."""

import asyncio
import contextlib
import os
import sys
import termios
import tty
from collections.abc import Callable, Iterator
from typing import Any

from askport.core.phrases import phrase

LEAVES = b"\x1d"
"""Ctrl-] ends it."""
_CHUNK = 4096
_QUIET_S = 1.0
"""After standard input has ended: how long the device may stay silent before the end."""


@contextlib.contextmanager
def raw() -> Iterator[None]:
    """Have every key come as it is pressed, where there is a terminal; it is put back at the end."""
    if not sys.stdin.isatty():
        yield
        return
    before = termios.tcgetattr(sys.stdin)
    try:
        tty.setraw(sys.stdin)
        yield
    finally:
        termios.tcsetattr(sys.stdin, termios.TCSADRAIN, before)


async def talk(reader: Any, writer: Any, said: Callable[[bytes], None], heard: Callable[[bytes], None]) -> str:
    """Carry bytes both ways until somebody ends it; return who did, as the end of a sentence."""
    loop, typed = asyncio.get_running_loop(), asyncio.Queue[bytes]()
    loop.add_reader(sys.stdin.fileno(), lambda: typed.put_nowait(os.read(sys.stdin.fileno(), _CHUNK)))
    over = phrase("the device ended it")
    last = [loop.time()]

    async def hear() -> None:
        with contextlib.suppress(OSError):
            while data := await reader.read(_CHUNK):
                last[0] = loop.time()
                heard(data)
                sys.stdout.buffer.write(data)
                sys.stdout.buffer.flush()

    hearing = asyncio.ensure_future(hear())
    try:
        while not hearing.done():
            waiting = asyncio.ensure_future(typed.get())
            await asyncio.wait((waiting, hearing), return_when=asyncio.FIRST_COMPLETED)
            if not waiting.done():
                waiting.cancel()
                break
            data = waiting.result()
            if LEAVES in data:
                over = phrase("you ended it")
                break
            if not data:
                loop.remove_reader(sys.stdin.fileno())
                seen = -1.0
                while not hearing.done() and seen != last[0]:
                    seen = last[0]
                    await asyncio.wait({hearing}, timeout=_QUIET_S)
                over = phrase("what was typed has ended")
                break
            last[0] = loop.time()
            said(data)
            writer.write(data)
    finally:
        loop.remove_reader(sys.stdin.fileno())
        hearing.cancel()
        writer.close()
    return over
