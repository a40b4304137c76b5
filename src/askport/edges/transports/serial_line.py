"""A serial line of the laptop's, its own or behind USB."""

import asyncio
import contextlib
from typing import Any

from askport.core.channels import SerialLine
from askport.core.phrases import phrase
from askport.core.text import display_text

_LETS_GO_S = 2.0
"""What was sent last goes out first."""


async def connect(_: object, far: SerialLine) -> tuple[Any, Any]:
    """Open the line; the cable has nothing to do with it.

    Raises:
        OSError: there is none, somebody else has it, or it cannot be set like that.
    """
    import serial
    from serial_asyncio_fast import open_serial_connection

    try:
        reader, writer = await open_serial_connection(
            url=far.path,
            baudrate=far.baud,
            bytesize=far.bits,
            parity=far.parity,
            stopbits=far.stop,
            exclusive=True,
        )
    except (serial.SerialException, ValueError) as error:
        # What it raises is an OSError whose own text repeats the path; the kernel's words are enough.
        number = getattr(error, "errno", None)
        raise (OSError(number, "") if number else ConnectionError(str(error))) from None
    return reader, writer


async def let_go(writer: Any) -> None:
    """Wait until a line that was closed can be had again."""
    with contextlib.suppress(OSError, TimeoutError):
        async with asyncio.timeout(_LETS_GO_S):
            await writer.wait_closed()


def serial_lines() -> list[tuple[str, str]]:
    """Return the laptop's serial lines: where each is, and what it is."""
    from serial.tools.list_ports import comports

    return [
        (
            each.device,
            display_text(each.description, 60) if each.description not in ("n/a", None) else phrase("a serial line"),
        )
        for each in sorted(comports())
    ]
