"""The Internet checksum (RFC 1071), shared by IPv4, ICMP, UDP and TCP."""

from struct import pack

from askport.core.addresses import Address


def internet_checksum(data: bytes) -> int:
    """Return the ones' complement of the ones' complement sum of 16-bit words; odd data is padded with a zero."""
    if len(data) % 2:
        data += b"\0"
    # 2**16 is congruent to 1 modulo 65535, so the whole as one big number has the same ones' complement sum.
    total = int.from_bytes(data, "big")
    folded = total % 0xFFFF
    return 0xFFFF - (folded if folded or not total else 0xFFFF)


def pseudo_header(src: Address, dst: Address, protocol: int, length: int) -> bytes:
    """Return what UDP and TCP checksums cover beside the segment (RFC 9293 section 3.1, RFC 8200 section 8.1)."""
    numbers = pack("!BBH", 0, protocol, length) if src.version == 4 else pack("!II", length, protocol)
    return src.packed + dst.packed + numbers
