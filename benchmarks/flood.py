"""The device's end of a benchmark: plants ARP questions among other frames at full speed, or one by one."""

import json
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
_MAC, _LAPTOP = MacAddress(b"\2\0\0\0\0\x99"), MacAddress(b"\2\0\0\0\0\1")


def main() -> None:
    """Send a bounded number of frames and end."""
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
