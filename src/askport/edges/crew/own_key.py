"""A member's own key: made at joining, kept outside the job, readable for its owner only."""

import re
from pathlib import Path

from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
from platformdirs import user_data_path

from askport.core import errors, text
from askport.edges.files import write_file


def _path(crew: str, member: str) -> Path:
    plain = re.sub(r"[^\w.-]", lambda found: f"%{ord(found[0]):x}", member)
    return user_data_path("askport") / "crew-keys" / f"{crew}-{plain}.key"


def public_half(private: bytes) -> str:
    """Return the public key to a private one, in hexadecimal digits."""
    public = Ed25519PrivateKey.from_private_bytes(private).public_key()
    return public.public_bytes(Encoding.Raw, PublicFormat.Raw).hex()


def make_key(crew: str, member: str) -> bytes:
    """Return the private key of a member, made where this laptop has none.

    Raises:
        MachineRefused: it cannot be kept.
    """
    path = _path(crew, member)
    if path.exists():
        return key_of(crew, member)
    private = Ed25519PrivateKey.generate().private_bytes_raw()
    try:
        path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
    except OSError as error:
        raise errors.MachineRefused(
            "The key of this member cannot be kept in '{path}': {why}.", path=path, why=error.strerror
        ) from None
    write_file(path, private.hex().encode(), mode=0o600)
    return private


def key_of(crew: str, member: str) -> bytes:
    """Return the private key of a member.

    Raises:
        Refused: it is not on this laptop.
        MachineRefused: it cannot be read.
    """
    path, shown = _path(crew, member), text.display_text(member, 40)
    try:
        private = bytes.fromhex(path.read_text().strip())
    except FileNotFoundError:
        raise errors.Refused(
            "The key of {shown} is not on this laptop, so nothing can be pushed as {shown}. Join "
            "under a name of this laptop's own with 'askport crew join … --as NAME'.",
            shown=shown,
        ) from None
    except (OSError, ValueError) as error:
        raise errors.MachineRefused("The key in '{path}' cannot be read: {error}.", path=path, error=error) from None
    if len(private) != 32:
        raise errors.MachineRefused("The key in '{path}' is none: put it back from a copy.", path=path)
    return private
