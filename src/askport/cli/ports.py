"""TCP ports as they are typed."""

from askport.core.errors import BadInput
from askport.core.text import display_text, whole_number


def tcp_port(text: str) -> int:
    """Read a port number.

    Raises:
        BadInput: it is none.
    """
    port = whole_number(text, 1, 65_535)
    if port is None:
        raise BadInput(
            "'{text}' is neither a TCP port nor a path: give 1 to 65535, or a path such as /dev/ttyUSB0.",
            text=display_text(text, 60),
        )
    return port
