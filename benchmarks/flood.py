"""The device's end of a benchmark: plants ARP questions among other frames at full speed, or one by one."""

import json
import signal
import socket
import sys
import time
from ipaddress import IPv4Address

from askport.core.addresses import MacAddress
from askport.core.formats.arp import arp_question
from askport.core.formats.packet import Ends, frame_between
from askport.core.formats.tcp import Tcp, TcpFlag
from askport.core.formats.udp import Udp

_OTHERS_FOR_EACH = 100
_RATE, _BURST = 20_000, 20
_MAC, _LAPTOP = MacAddress(b"\2\0\0\0\0\x99"), MacAddress(b"\2\0\0\0\0\1")


def babble(seconds: float) -> None:
    """Send what passes the kernel's filter, 20,000 frames a second for so many seconds or until ended by a signal.

    Four talkers: one asks for every address in turn, one says the same for ever, two stream to groups.
    """
    ended: list[int] = []
    signal.signal(signal.SIGTERM, lambda number, _: ended.append(number))
    wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW)
    wire.bind(("zd0", 0))
    macs = [MacAddress(bytes((2, 0, 0, 0, 9, number))) for number in range(4)]
    same = arp_question(macs[1], IPv4Address("10.9.9.1"), sender=IPv4Address("10.9.0.1"))
    streams = [
        Ends(src_mac=mac, src=IPv4Address("10.9.0.2") + at, dst_mac=MacAddress(b"\1\0\x5e\1\1" + bytes([at])),
             dst=IPv4Address("239.1.1.0") + at)
        for at, mac in enumerate(macs[2:])
    ]  # fmt: skip
    began, sent = time.perf_counter(), 0
    while not ended and (passed := time.perf_counter() - began) < seconds:
        if sent > passed * _RATE:
            time.sleep(0.001)
            continue
        for _ in range(_BURST // 4):
            wire.send(arp_question(macs[0], IPv4Address(0x0A000000 + sent % 65_536), sender=IPv4Address("10.9.0.9")))
            wire.send(same)
            for ends in streams:
                wire.send(frame_between(ends, Udp(src_port=5000, dst_port=6000, payload=sent.to_bytes(4) + bytes(800))))
        sent += _BURST
    print(json.dumps({"sent": sent, "rate": round(sent / (time.perf_counter() - began))}))


def main() -> None:
    """Send a bounded number of frames and end."""
    if sys.argv[1] == "--seconds":
        babble(float(sys.argv[2]))
        return
    count, slowly = int(sys.argv[1]), "--slowly" in sys.argv
    wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW)
    wire.bind(("zd0", 0))
    ends = Ends(src_mac=_MAC, src=IPv4Address("10.9.9.9"), dst_mac=_LAPTOP, dst=IPv4Address("10.9.9.8"))
    others = [
        frame_between(ends, Udp(src_port=5000, dst_port=6000, payload=bytes(20))),
        frame_between(ends, Tcp(src_port=80, dst_port=40000, flags=TcpFlag.ACK, payload=bytes(20))),
    ] * (_OTHERS_FOR_EACH // 2)
    began = time.perf_counter()
    for number in range(count):
        sender = MacAddress(b"\2\1" + number.to_bytes(4, "big"))
        address = IPv4Address(0x0A000000 + number)
        wire.send(arp_question(sender, address, sender=IPv4Address(0x0A800000 + number)))
        if slowly:
            time.sleep(0.004)
        else:
            for data in others:
                wire.send(data)
    took = time.perf_counter() - began
    sent = 0 if slowly else count * _OTHERS_FOR_EACH
    print(json.dumps({"others": sent, "rate": sent / took}))


main()
