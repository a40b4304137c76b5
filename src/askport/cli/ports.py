"""TCP ports as they are typed."""

from askport.core.errors import BadInput


def tcp_port(text: str) -> int:
    """Read a port number.

    Raises:
        BadInput: it is none.
    """
    if not (text.isascii() and text.isdigit() and 0 < int(text) < 65_536):
        raise BadInput(
            f"'{text}' is no TCP port and no path: name one from 1 to 65535, or a path such as /dev/ttyUSB0."
        )
    return int(text)
