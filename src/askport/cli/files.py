"""Files that commands write: whole, or not at all."""

from pathlib import Path

from askport.core.errors import MachineRefused
from askport.core.text import display_text


def write_file(path: Path, data: bytes) -> None:
    """Write a file; what stood there before stays until the new one is complete.

    Raises:
        MachineRefused: it cannot be written.
    """
    draft = path.with_name(path.name + ".part")
    try:
        draft.write_bytes(data)
        draft.replace(path)
    except OSError as error:
        raise MachineRefused(f"'{display_text(str(path), 120)}' could not be written: {error.strerror}.") from None
    finally:
        draft.unlink(missing_ok=True)
