"""What has happened in a device's way through the job, as entries of the journal."""

from collections.abc import Iterable
from dataclasses import asdict
from ipaddress import IPv4Address

from askport.core.addresses import LINK_LOCAL, MacAddress
from askport.core.finding.clues import Identity
from askport.core.finding.device import Device
from askport.core.kinds.own_word import ReadBack
from askport.core.proofs import measured, own_word_proof, power_cycle, service_again, verdict, who_holds
from askport.core.proofs.calls import Calls
from askport.core.proofs.proof import Proof
from askport.core.register.as_left import AsLeft, Basis, Value
from askport.core.register.entries import Found, Identified, IdentifiedBy, Left, PowerCut, Proved, ReadOut, WasSet
from askport.core.ways.way import Way
from askport.core.wire import Heard


def found(device: Device, *, unit: int, tag: str, maker: str | None) -> tuple[Found, tuple[Heard, ...]]:
    """Return the device as it was found, and the frames that say so."""
    # One that asks has fallen back to a link-local address at the best; as found are both then.
    best = device.best if device.best and (not device.request or device.best.address in LINK_LOCAL) else None
    reasons = best.because if best else device.request.because if device.request else ()
    entry = Found(
        unit=unit,
        tag=tag,
        mac=device.mac,
        maker=maker,
        address=best.address if best else None,
        prefix=best.prefix if best else None,
        gateway=best.gateway if best else None,
        belief=str(best.belief) if best else "asks",
        asks_by=device.request.protocol if device.request else None,
        because=tuple(reason.sentence for reason in best.because) if best else (),
        ipv6=device.ipv6,
    )
    return entry, tuple(dict.fromkeys(frame for reason in reasons for frame in reason.frames))


def was_set(way: Way, *, unit: int, left: Way | None = None) -> WasSet:
    """Return how a way of setting the address ended.

    Args:
        left: another that was left for this one, and had told the device something by then. Where nobody but somebody's
            hands came after it, what the device took may be what that one told.
    """
    by = left if left and not way.has_acted and left.target == way.target else way
    return WasSet(
        unit=unit,
        mac=way.mac,
        way=by.name,
        gives=by.gives and by is way,
        wrote=by.wrote,
        interface=way.target.interface,
        gateway=way.target.gateway,
        dns=way.target.dns,
        result=str(way.result),
        because=way.because,
        key=way.shown_key,
        permanent=way.permanent,
    )


def proved(outcome: verdict.Outcome, *, unit: int, mac: MacAddress, after_cut: bool = False) -> Proved:
    """Return how a proof ended."""
    return Proved(unit=unit, mac=mac, **asdict(outcome), after_cut=after_cut)


def power_cut(
    cycle: power_cycle.PowerCycle, services: service_again.Services | None, *, unit: int, mac: MacAddress
) -> PowerCut | None:
    """Return the moments of a power cycle that was seen, or None."""
    lane = cycle.lane
    if lane.off_at is None:
        return None
    moments = (
        round(at - lane.off_at, 3) if at is not None else None
        for at in (lane.link_at, lane.first_heard_at, lane.back_at)
    )
    link_s, first_word_s, answer_s = moments
    served = dict(services.moments) if services else {}
    return PowerCut(unit=unit, mac=mac, link_s=link_s, first_word_s=first_word_s, answer_s=answer_s, services=served)


def left(proofs: Iterable[Proof], *, unit: int, mac: MacAddress, heard_gateway: IPv4Address | None = None) -> Left:
    """Return what proofs have found out about what a device is left with.

    Args:
        heard_gateway: whom it keeps looking for from its new address, where it does.
    """
    address: Value[IPv4Address] = Value()
    prefix: Value[int] = Value()
    gateway: Value[IPv4Address] = Value(value=heard_gateway, basis=Basis.HEARD) if heard_gateway else Value()
    told = AsLeft()
    for proof in proofs:
        if isinstance(proof, who_holds.SameMac) and proof.passed:
            address = Value(value=proof.address, basis=Basis.MEASURED)
        elif isinstance(proof, Calls) and proof.dns_called:
            told = AsLeft(dns=Value(value=proof.dns_called, basis=Basis.HEARD)).then(told)
        elif isinstance(proof, own_word_proof.ReadsBack) and (said := proof.said):
            told = told.then(_said(said))
        elif isinstance(proof, measured.MaskAsPlanned) and (result := proof.result) and result.prefix is not None:
            prefix = Value(value=result.prefix, basis=Basis.MEASURED)
            if result.gateway:
                gateway = Value(value=result.gateway, basis=Basis.MEASURED)
    shown = AsLeft(address=address, prefix=prefix, gateway=gateway)
    return Left(unit=unit, mac=mac, as_left=told.then(shown))


def called(calls: Calls, *, unit: int, mac: MacAddress) -> Left:
    """Return what a device has shown of its DNS servers by calling them."""
    dns = calls.dns_called
    heard: Value[tuple[IPv4Address, ...]] = Value(value=dns, basis=Basis.HEARD) if dns else Value()
    return Left(unit=unit, mac=mac, as_left=AsLeft(dns=heard))


def _said(said: ReadBack) -> AsLeft:
    basis = Basis.READ_BACK
    return AsLeft(
        prefix=Value(value=said.prefix, basis=basis) if said.prefix is not None else Value[int](),
        gateway=Value(value=said.gateway, basis=basis) if "gateway" in said.said else Value[IPv4Address](),
        dns=Value(value=said.dns, basis=basis) if "dns" in said.said else Value[tuple[IPv4Address, ...]](),
    )


def identified(identities: Iterable[Identity], *, unit: int, mac: MacAddress) -> Identified:
    """Return by what a device is known in field protocols."""
    return Identified(unit=unit, mac=mac, by=tuple(IdentifiedBy(**each._asdict()) for each in identities))


def read_out(said: ReadBack, because: str, *, unit: int, mac: MacAddress) -> ReadOut:
    """Return what a device said of its settings as it was found."""
    return ReadOut(
        unit=unit, mac=mac, address=said.address, prefix=said.prefix, gateway=said.gateway, dns=said.dns,
        origin=said.origin, because=because, said=tuple(sorted(said.said)),
    )  # fmt: skip
