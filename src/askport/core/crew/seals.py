"""Seals: by its key (Ed25519, RFC 8032) a member vouches for a line, and so for all lines before it on its strand."""

from collections.abc import Collection, Iterable
from dataclasses import dataclass
from datetime import datetime
from hashlib import sha256

from askport.core.phrases import phrase

_GROUP = 4
_SHOWN = 32
"""Digits of a key's fingerprint that people compare: half of a SHA-256."""


@dataclass(frozen=True, slots=True)
class Seal:
    """What one member pushed at once: up to which line, and its signature."""

    member: str
    head: str
    """The hash of the last line."""
    place: int
    """Of that line on its strand."""
    signature: str
    push: int = 0
    """Which push of the crew it came with; 0 where no server has numbered it yet."""
    at: datetime | None = None
    """When the database had it, by its own clock; None where that is not asked."""


@dataclass(frozen=True, slots=True)
class Member:
    """One technician of a crew, as the crew knows them."""

    name: str
    key: str
    """The public key, in hexadecimal digits."""
    login: str = ""
    """As whom they come to the database."""
    removed: bool = False

    @property
    def fingerprint(self) -> str:
        """The fingerprint of the key, as people compare it."""
        return fingerprint(bytes.fromhex(self.key))


@dataclass(frozen=True, slots=True)
class CrewWords:
    """What a paper says of the crew that made its record."""

    site: str
    fingerprint: str
    """Of all lines of all members, whatever file they are read from."""
    members: tuple[tuple[str, str], ...]
    """Each with the fingerprint of its key."""


def as_member(name: str, strangers: Collection[str]) -> str:
    """Return a member's name as it stands beside a line; ``strangers`` are those whom nobody has accepted."""
    return phrase("{name} (not accepted)", name=name) if name in strangers else name


def fingerprint(data: bytes) -> str:
    """Return the first half of a SHA-256 in groups of four digits."""
    digits = sha256(data).hexdigest()[:_SHOWN]
    return " ".join(digits[place : place + _GROUP] for place in range(0, len(digits), _GROUP))


def _text(crew: str, member: str, head: str, place: int) -> bytes:
    return "\n".join(("askport.seal/1", crew, member, str(place), head)).encode()


def seal(private: bytes, *, crew: str, member: str, head: str, place: int) -> Seal:
    """Return a seal over a line, made with a private key of 32 bytes."""
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey  # late: few files have a crew

    signature = Ed25519PrivateKey.from_private_bytes(private).sign(_text(crew, member, head, place))
    return Seal(member, head, place, signature.hex())


def is_sealed(each: Seal, key: str, *, crew: str) -> bool:
    """Whether a seal was made with the private half of a public key."""
    from cryptography.exceptions import InvalidSignature
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

    try:
        public = Ed25519PublicKey.from_public_bytes(bytes.fromhex(key))
        public.verify(bytes.fromhex(each.signature), _text(crew, each.member, each.head, each.place))
    except (InvalidSignature, ValueError):
        return False
    return True


def crew_fingerprint(heads: Iterable[tuple[str, str]]) -> str:
    """Return what stands for all lines of a crew, in whatever order a file has them.

    Args:
        heads: each member with the hash of the last line of one of its strands.
    """
    return sha256("\n".join(f"{member} {head}" for member, head in sorted(set(heads))).encode()).hexdigest()
