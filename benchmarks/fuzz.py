"""Fuzzing: real frames bent in every way, read through all layers and clue readers, on all cores.

``make benchmarks`` runs a short round; ``make fuzz`` ten million frames. Every clue is opened to its bytes, and whole
capture files are bent too. No frame may raise, and none may take over a millisecond of the processor's time to be read:
one that did is read again, because what else the machine does slows any frame once. A long run says how far it is.
"""

import contextlib
import os
import sys
import time
from collections.abc import Callable
from datetime import UTC, datetime
from ipaddress import IPv4Address, IPv4Interface
from multiprocessing import Pool
from random import Random
from struct import pack

from askport.core.errors import BadInput
from askport.core.finding.clues import Clue
from askport.core.finding.finder import Finder
from askport.core.finding.quoting import Marked, bytes_behind
from askport.core.finding.readers import read_clues
from askport.core.formats import bacnet, cip, ipprog, modbus, onvif
from askport.core.formats.capture import pcapng_frame, pcapng_start, read_capture
from askport.core.formats.frame_fields import Field, fields_of
from askport.core.formats.packet import read_packet
from askport.core.formats.unreadable import Unreadable
from askport.core.protocols import PROTOCOLS
from askport.core.ways.snmp_engine import Access, AgentTalk, Asks
from askport.core.wire import Frame, hear
from capture import field_answers, mixed

_SHORT, _LONG = 200_000, 10_000_000
_CHUNK = 100_000
_SAID_EVERY = 1_000_000
_SLOW_S = 1e-3
_AGAIN = 5
_MOMENT_S = 0.03
_Bend = Callable[[Random, bytes, bytes], bytes]


def _flip(random: Random, data: bytes, _: bytes) -> bytes:
    at = random.randrange(len(data))
    return data[:at] + bytes((data[at] ^ 1 << random.randrange(8),)) + data[at + 1 :]


def _cut(random: Random, data: bytes, _: bytes) -> bytes:
    return data[: random.randrange(len(data))]


def _splice(random: Random, data: bytes, other: bytes) -> bytes:
    return data[: random.randrange(len(data))] + other[random.randrange(len(other)) :]


def _overwrite(random: Random, data: bytes, _: bytes) -> bytes:
    at, junk = random.randrange(len(data)), random.randbytes(random.randrange(1, 9))
    return data[:at] + junk + data[at + len(junk) :]


def _fill(random: Random, data: bytes, _: bytes) -> bytes:
    at = random.randrange(len(data))
    return data[:at] + random.choice((b"\0", b"\xff", b"\xc0\x0c", b"\x81\x00")) * random.randrange(1, 700)


def _random(random: Random, data: bytes, _: bytes) -> bytes:
    return data[: random.choice((12, 14, 34, 42))] + random.randbytes(random.randrange(1500))


_BENDS: tuple[_Bend, ...] = (_flip, _cut, _splice, _overwrite, _fill, _random)


def _read(data: bytes) -> list[Clue]:
    clues = read_clues(read_packet(data))
    for clue in clues:
        if not clue.text.isprintable():
            raise ValueError(f"unprintable text out of {data.hex()}")
    return clues


def _open(data: bytes, clues: list[Clue]) -> None:
    """Open every clue to the bytes that say so, which all lie inside the frame."""
    heard = hear(Frame(at=0.0, data=data))
    for marked in [*(each for clue in clues for each in bytes_behind(heard, clue)), *map(_plain, fields_of(data))]:
        if not (0 <= marked.field.offset < marked.field.end <= len(data)) or not marked.field.value.isprintable():
            raise ValueError(f"a field outside its frame: {marked.field}")


def _plain(field: Field) -> Marked:
    return Marked(field, says_so=False)


def _capture(random: Random, frames: list[bytes], wrong: list[str]) -> None:
    """Bend a whole capture file, and read it as the command line does."""
    if random.random() < 0.5:
        blocks = [pcapng_frame(random.random() * 1e9, each) for each in random.choices(frames, k=20)]
        data = pcapng_start() + b"".join(blocks)
    else:
        head = pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 1)
        sizes = ((len(each), each) for each in random.choices(frames, k=20))
        data = head + b"".join(pack("<IIII", 5, 5, size, size) + each for size, each in sizes)
    for _ in range(random.choice((1, 2, 8))):
        data = random.choice(_BENDS)(random, data or b"\0", data or b"\0")
    try:
        finder = Finder([], now=0.0)
        for captured in read_capture(data):
            finder.receive(hear(Frame(at=captured.at, data=captured.data)))
        for device in finder.devices():
            device.reasons()
        finder.hazards()
    except BadInput:
        pass
    except Exception as error:  # noqa: BLE001 - what this looks for
        wrong.append(f"{type(error).__name__}: {error}: a capture of {data.hex()}")


def _session(data: bytes) -> None:
    """Read what a session over EtherNet/IP brings."""
    taken = cip.take_message(data)
    while not isinstance(taken, Unreadable) and taken[0]:
        reply = taken[0].reply
        cip.decode_configuration(reply.data if reply else taken[0].body)
        taken = cip.take_message(taken[1])


def _answer(data: bytes) -> None:
    """Read what a BACnet device answers."""
    answer = bacnet.decode_answer(data)
    if isinstance(answer, bacnet.BacnetAnswer):
        bacnet.port_in(bacnet.values_of(answer.value))
        answer.refusal.encode()


def _service(data: bytes) -> None:
    """Read what an ONVIF device service answers."""
    with contextlib.suppress(onvif.NotOnvif):
        body = onvif.read_answer(data.decode("utf-8", "replace"))
        onvif.fault_of(body)
        onvif.clock_of(body)
        body.addresses("IPv4Address")


def _node(data: bytes) -> None:
    """Read what an Art-Net node answers."""
    ipprog.decode_ip_prog(data)


def _identification(data: bytes) -> None:
    """Read who a Modbus/TCP server says that it is."""
    taken = modbus.take_identification(data)
    while not isinstance(taken, Unreadable) and taken[0]:
        taken[0].refusal.encode()
        taken = modbus.take_identification(taken[1])


def _agent(data: bytes) -> None:
    """Read what an SNMP agent answers, by the package that does so."""
    _AGENT.receive(data)


_AGENT = AgentTalk(Access("2c", "", "hatchery"))
_SYS_NAME = (1, 3, 6, 1, 2, 1, 1, 5, 0)
_AGENT.ask(Asks.GET, [(_SYS_NAME, None)])
_NAMED = _AGENT.message.replace(b"\xa0", b"\xa2", 1)
_NOW = datetime(2026, 3, 4, tzinfo=UTC)
_CONFIGURATION = cip.encode_configuration(cip.Configuration(IPv4Address(1), IPv4Address(2), domain=b"hatchery"))
_SAID = modbus.Identification(1, ((0, b"Calder Vale"), (1, b"PV-7")), 2)
_TALKS: dict[str, tuple[Callable[[bytes], None], tuple[bytes, ...]]] = {
    "cip": (_session, (cip.register_session(), cip.unconnected(1, b"\x8e\0\0\0" + _CONFIGURATION))),
    "bacnet": (_answer, (bacnet.write_property(7, 3, bacnet.Property.DNS_SERVER, bacnet.octets(b"abcd") * 3),
               bytes.fromhex("810a001801003007 0c0c0e000003 1a0190 3e640a5410283f"))),
    "onvif": (_service, (onvif.envelope(onvif.set_interface("eth0", IPv4Interface("10.84.16.40/22")),
                               onvif.username_token("fitter", "x", bytes(16), _NOW)).encode(),)),
    "artnet": (_node, (ipprog.encode_ip_prog(ipprog.IpProg(True, IPv4Address(1), IPv4Address(2))),)),
    "modbus": (_identification, (modbus.encode_identification(_SAID),
                       modbus.encode_identification(modbus.Identification(2, exception=2)))),
    "snmp": (_agent, (_NAMED,)),
}  # fmt: skip
"""What is talked in field protocols beside frames that are heard, with whole messages to be bent."""
if untried := [each.name for each in PROTOCOLS.values() if each.way and not each.ethertype and each.name not in _TALKS]:
    raise SystemExit(f"no messages to bend of {', '.join(untried)}: write some into _TALKS")


def _messages(random: Random, wrong: list[str]) -> None:
    """Bend one message of each conversation, and read it."""
    for read, whole in _TALKS.values():
        data = random.choice(whole)
        for _ in range(random.choice((1, 1, 2, 4))):
            data = random.choice(_BENDS)(random, data or b"\0", random.choice(whole))
        try:
            read(data)
        except Exception as error:  # noqa: BLE001 - what this looks for
            wrong.append(f"{type(error).__name__}: {error}: a message of {data.hex()}")


def _chunk(seed: int) -> tuple[int, float, list[str]]:
    """Bend and read one chunk; return how many, the slowest honest time, and what went wrong."""
    random = Random(seed)
    frames = mixed(400, seed) + field_answers() * 8
    finder = Finder([], now=0.0)
    wrong: list[str] = []
    worst = 0.0
    for number in range(_CHUNK):
        data = random.choice(frames)
        for _ in range(random.choice((1, 1, 1, 2, 4))):
            data = random.choice(_BENDS)(random, data or b"\0", random.choice(frames))
        took = _timed(data, wrong)
        if took > _SLOW_S:
            took = min(_timed_later(data, wrong) for _ in range(_AGAIN))
            if took > _SLOW_S:
                wrong.append(f"{took * 1e3:.2f} ms: {data.hex()}")
        worst = max(worst, took)
        if number % 500 == 0:
            _capture(random, frames, wrong)
        if number % 20 == 0:
            _messages(random, wrong)
            finder.receive(hear(Frame(at=number / 1e3, data=data)))
    for device in finder.devices():
        device.reasons()
    return _CHUNK, worst, wrong[:3]


def _timed_later(data: bytes, wrong: list[str]) -> float:
    """Take the time again a moment later: what the machine does meanwhile comes and goes, and a slow frame stays."""
    time.sleep(_MOMENT_S)
    return _timed(data, wrong)


def _timed(data: bytes, wrong: list[str]) -> float:
    began = time.thread_time()
    try:
        clues = _read(data)
        took = time.thread_time() - began
        if clues and data[-1] & 3 == 0:  # opening takes longer than reading: some of them
            _open(data, clues)
    except Exception as error:  # noqa: BLE001 - what this looks for
        wrong.append(f"{type(error).__name__}: {error}: {data.hex()}")
        took = time.thread_time() - began
    return took


def run(count: int) -> None:
    """Fuzz with this many frames, and end with status 1 where anything went wrong."""
    done, worst = 0, 0.0
    wrong: list[str] = []
    began = time.perf_counter()
    with Pool(os.cpu_count()) as pool:
        for frames, slowest, faults in pool.imap_unordered(_chunk, range(max(1, count // _CHUNK))):
            done, worst, wrong = done + frames, max(worst, slowest), wrong + faults
            if done % _SAID_EVERY == 0 and done < count:
                print(_summary(done, began, worst, wrong), flush=True)
    print(_summary(done, began, worst, wrong))
    for each in wrong[:5]:
        print(f"    {each}")
    if wrong:
        sys.exit(1)


def _summary(done: int, began: float, worst: float, wrong: list[str]) -> str:
    took = time.perf_counter() - began
    return f"fuzz: {done:,} bent frames in {took:.0f} s, {len(wrong)} faults, the slowest took {worst * 1e3:.2f} ms"


def short_run() -> None:
    """Run a short round."""
    run(_SHORT)


if __name__ == "__main__":
    run(_LONG)
