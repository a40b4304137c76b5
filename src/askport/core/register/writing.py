"""What has happened in a device's way through the job, as entries of the journal."""

from dataclasses import asdict

from askport.core.addresses import MacAddress
from askport.core.finding.device import Device
from askport.core.proofs.proof import Finding
from askport.core.register.entries import Found, Proved, WasSet
from askport.core.ways.way import Way
from askport.core.wire import Heard


def found(device: Device, *, unit: int, tag: str, maker: str | None) -> tuple[Found, tuple[Heard, ...]]:
    """Return the device as it was found, and the frames that say so."""
    best = device.best if not device.asking else None
    reasons = best.because if best else device.asking.because if device.asking else ()
    entry = Found(
        unit=unit,
        tag=tag,
        mac=device.mac,
        maker=maker,
        address=best.address if best else None,
        prefix=best.prefix if best else None,
        gateway=best.gateway if best else None,
        belief=str(best.belief) if best else "asks",
        asks_by=device.asking.protocol if device.asking else None,
        because=tuple(reason.sentence for reason in best.because) if best else (),
    )
    return entry, tuple(dict.fromkeys(frame for reason in reasons for frame in reason.evidence))


def was_set(way: Way, *, unit: int) -> WasSet:
    """Return how a way of setting the address ended."""
    return WasSet(
        unit=unit,
        mac=way.mac,
        way=way.name,
        interface=way.target.interface,
        gateway=way.target.gateway,
        dns=way.target.dns,
        result=str(way.result),
        because=way.because,
    )


def proved(finding: Finding, *, unit: int, mac: MacAddress) -> Proved:
    """Return how a proof ended."""
    return Proved(unit=unit, mac=mac, **asdict(finding))
