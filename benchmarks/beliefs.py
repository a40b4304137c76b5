"""What believing costs for each frame, with many answers and questions of each device beside few."""

import time
from ipaddress import IPv4Address

from askport.core.addresses import MacAddress
from askport.core.finding.finder import Finder
from askport.core.formats.arp import Arp, Op, arp_frame, arp_question
from askport.core.wire import Frame, hear

_FRAMES, _LOOKS = 20_000, 200


def _frames(each: int) -> list[bytes]:
    """Return as many frames in all, with so many different addresses answered and asked for by each device."""
    laptop = MacAddress(b"\2\0\0\0\0\1")
    frames = []
    for number in range(_FRAMES):
        device, turn = divmod(number, each)
        mac = MacAddress(b"\2\1" + device.to_bytes(4, "big"))
        other = IPv4Address(0x0A000000 + device * 1024 + turn)
        if turn % 2:
            frames.append(arp_question(mac, other, sender=IPv4Address(0x0A000000 + device * 1024)))
        else:
            frames.append(arp_frame(Arp(op=Op.REPLY, sha=mac, spa=other, tha=laptop, tpa=IPv4Address(0)), to=laptop))
    return frames


def _seconds(each: int) -> float:
    finder = Finder([MacAddress(b"\2\0\0\0\0\1")], now=0.0)
    frames = [hear(Frame(at=at / 1000, data=data)) for at, data in enumerate(_frames(each))]
    began = time.perf_counter()
    for place, heard in enumerate(frames):
        finder.receive(heard)
        if place % (_FRAMES // _LOOKS) == 0:
            finder.devices()  # as whoever waits for the first sure address does
    finder.devices()
    finder.hazards()
    return time.perf_counter() - began


def many_beside_few() -> None:
    """Compare 250 answers and questions of each device with 25, over as many frames."""
    few, many = min(_seconds(25) for _ in range(3)), min(_seconds(250) for _ in range(3))
    print(
        f"beliefs: {_FRAMES / many:,.0f} frames a second with 250 answers and questions of each device, "
        f"{many / few:.2f} times the cost of 25"
    )


if __name__ == "__main__":
    many_beside_few()
