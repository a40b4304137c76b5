"""Finding devices on a cable or in a capture file, and measuring one, for the command line."""

import asyncio
import secrets
from collections.abc import Callable
from datetime import datetime
from ipaddress import IPv4Network
from pathlib import Path

import typer

from askport.cli.find_document import find_document
from askport.cli.on_cable import LINK_S, NO_LINK, finder_on, open_cable, run, saving
from askport.cli.saying import Status, put_json, say
from askport.core import addresses, text
from askport.core.errors import BadInput, Refused
from askport.core.finding.device import Device
from askport.core.finding.finder import Finder
from askport.core.finding.hazards import wire_hazards
from askport.core.finding.label import compare_label, label_digits
from askport.core.finding.loudness import Loudness
from askport.core.finding.measuring import Measuring
from askport.core.finding.sweeping import LINE_RATE
from askport.core.phrases import listed, phrase
from askport.core.wire import Counts, Wire, hear
from askport.edges import keeper_client, maker_table

_LONGEST_S: dict[Loudness, float] = {Loudness.LISTEN: 30.0, Loudness.GREET: 15.0}
"""How long it takes unless said otherwise: most devices speak within 30 s after power-up, and answer in seconds."""
_LAST_ANSWERS_S = 1.0
"""How long answers to the last question are waited for."""
_PROGRESS_S = 5.0
_MAX_CALL_RATE = 1000.0
"""Questions a second: what calling sends one by one without a burst."""
_MEASURE_S = 60.0
"""Ten questions with the longest waits take less."""


def find_on_cable(
    adapter: str,
    *,
    loudness: str,
    seconds: float | None,
    within: list[str],
    rate: float | None,
    until_found: bool,
    label: str | None,
    save: Path | None,
    json: bool,
) -> None:
    """Find the devices on the cable, and print them.

    Raises:
        BadInput: something that was given does not fit.
    """
    if loudness not in list(Loudness):
        raise BadInput(
            "'{loudness}' is not a loudness: choose {loudness_2}.", loudness=loudness, loudness_2=", ".join(Loudness)
        )
    loud = Loudness(loudness)
    ranges = [addresses.parse_network(each) for each in within]
    if ranges and not loud.allows(Loudness.CALL):
        raise BadInput(
            "--within says where to ask, and to {loud} asks no addresses: add --loudness call or sweep.", loud=loud
        )
    fastest = LINE_RATE if loud is Loudness.SWEEP else _MAX_CALL_RATE
    if rate is not None and not 0 < rate <= fastest:
        raise BadInput(
            "A rate of {rate:g} is not possible: give up to {fastest:g} questions a second.", rate=rate, fastest=fastest
        )
    if seconds is not None and seconds < 0:
        raise BadInput("{seconds:g} seconds cannot pass: give a number above 0.", seconds=seconds)
    if label:
        label_digits(label)
    with open_cable(adapter, needs_link=False) as cable, saving(save, cable):
        started = cable.wire.now()
        finder = finder_on(cable, loudness=loud, within=ranges, rate=rate)
        finder.laptop_addresses |= {each.ip for each in cable.own}
        finder.own_addresses = lambda: [each.ip for each in cable.own]
        if not json:
            say("{adapter}: {says}. Ctrl-C ends it.", adapter=adapter, says=loud.says)
        longest = _LONGEST_S.get(loud) if seconds is None else seconds
        if not cable.wire.link().up:
            finder.link_changed(cable.wire.link(), started)
            say(NO_LINK, adapter=adapter)
        over = _Over(finder, cable.wire, until_found=until_found, settles=seconds is None)
        asyncio.run(run(finder, cable, longest, over))
        if not over.had_link:
            keeper_client.require_link(cable.keeper)
        put_found(
            finder,
            json=json,
            source=adapter,
            listened_s=cable.wire.now() - started,
            counts=cable.wire.counts(),
            wall=cable.wire.wall,
            label=label,
            silent=_silent(ranges),
        )


def _silent(ranges: list[IPv4Network]) -> str:
    """Say what silence means: asked for a range, it is an answer; else the device may only have to start."""
    if ranges:
        return phrase("Nobody on this wire answered for {ranges}.", ranges=listed(ranges))
    return phrase("Nothing heard. Power-cycle the device: most send something when they start.")


class _Over:
    """Whether finding is over: asked after every step."""

    def __init__(self, finder: Finder, wire: Wire, *, until_found: bool, settles: bool) -> None:
        self._finder, self._wire, self._now, self._until_found = finder, wire, wire.now, until_found
        self.had_link = wire.link().up
        """Whether there was a link at any time."""
        self._give_up_at = wire.now() + LINK_S
        self._settles = settles and finder.loudness.allows(Loudness.CALL)
        self._settled_at: float | None = None
        self._told_at = self._now()

    def __call__(self) -> bool:
        self._tell_progress()
        self.had_link |= self._wire.link().up
        if not self.had_link:
            return self._settles and self._now() >= self._give_up_at
        if self._until_found and any(device.is_found for device in self._finder.devices()):
            return True
        if not self._settles or not self._finder.has_settled:
            self._settled_at = None
            return False
        self._settled_at = self._settled_at or self._now()
        return self._now() >= self._settled_at + _LAST_ANSWERS_S

    def _tell_progress(self) -> None:
        sweeping = self._finder.sweeping
        if sweeping and not sweeping.done and self._now() >= self._told_at + _PROGRESS_S:
            self._told_at = self._now()
            share = f"{sweeping.asked / sweeping.total:.0%}"
            say(
                "{share} of {total:,} addresses tried, now at {at}; {left_s:.0f} s left.",
                share=share,
                total=sweeping.total,
                at=sweeping.at,
                left_s=sweeping.left_s,
            )


def read_capture(file: Path, laptop: list[str], label: str | None, *, json: bool) -> None:
    """Find the devices in a capture file, and print them.

    Raises:
        BadInput: the file cannot be read, or a MAC address is none.
    """
    from askport.edges.capture_file import CaptureFile

    macs = [addresses.MacAddress.parse(each) for each in laptop]
    if label:
        label_digits(label)
    capture = CaptureFile(file)
    finder = Finder(macs, now=0.0)
    for frame in capture.frames():
        finder.receive(hear(frame))
    put_found(
        finder,
        json=json,
        source=str(file),
        listened_s=capture.span_s,
        counts=Counts(seen=capture.count, sent=0),
        wall=capture.wall,
        label=label,
        silent=phrase("No device speaks in {file}.", file=text.display_text(str(file), 120)),
    )


def measure_device(adapter: str, mac: str, address: str, *, json: bool) -> None:
    """Measure a device's mask and gateway from outside, and print them.

    Raises:
        BadInput: an address is none.
        Refused: nothing could be measured.
    """
    device, at = addresses.MacAddress.parse(mac), addresses.parse_address(address)
    with open_cable(adapter) as cable:
        own = {each.ip for each in cable.own}
        seed = secrets.randbits(16)
        measuring = Measuring(cable.mac, device, at, now=cable.wire.now(), avoid=own, ours=own, seed=seed)
        asyncio.run(run(measuring, cable, _MEASURE_S))
    result = measuring.result
    if result is None:
        raise Refused(
            "{device} kept changing what it does: nothing was measured in {measure_s:g} s.",
            device=device,
            measure_s=_MEASURE_S,
        )
    if json:
        document = {
            "schema": "askport.measure/1",
            "mac": str(device),
            "address": str(at),
            "prefix": result.prefix,
            "gateway": str(result.gateway) if result.gateway else None,
            "because": result.because,
            "questions": result.questions,
        }
        put_json(document)
    else:
        print(result.because)
    if result.prefix is None:
        raise typer.Exit(Status.NO)


def put_found(
    finder: Finder,
    *,
    json: bool,
    source: str,
    listened_s: float,
    counts: Counts,
    wall: Callable[[float], datetime],
    label: str | None,
    silent: str,
) -> None:
    """Print what was found, and end with status 1 where that is nothing."""
    devices = finder.devices()
    if json:
        document = find_document(
            finder, source=source, listened_s=listened_s, counts=counts, wall=wall, maker=maker_table.maker, label=label
        )
        put_json(document)
    else:
        for device in devices:
            _tell(device, label)
        for hazard in {each.text: each for each in (*finder.hazards(), *wire_hazards(counts))}.values():
            print(hazard.text)
        if not devices:
            say(silent)
    fits = label is None or any(compare_label(label, device.mac).fits for device in devices)
    if not fits or not any(device.addresses or device.request for device in devices):
        raise typer.Exit(Status.NO)


def _tell(device: Device, label: str | None) -> None:
    print(f"{device.mac}  {maker_table.maker(device.mac) or 'maker unknown'}")
    if label:
        print(f"    {compare_label(label, device.mac).sentence}")
    if device.request:
        print(
            "    "
            + phrase(
                "asks for an address by {protocol}, requests so far: {requests}",
                protocol=device.request.protocol.upper(),
                requests=device.request.requests,
            )
        )
    for belief in device.addresses:
        prefix = f"/{belief.prefix}" if belief.prefix is not None else ""
        print(f"    {belief.address}{prefix}  {belief.belief.words}")
        for reason in belief.because:
            print(f"        {reason.sentence}")
    for reason in device.others:
        print(f"    {reason.sentence}")
