"""Whether the laptop's own firewall is what stands between it and a port of a device."""

from ipaddress import IPv4Address, IPv4Interface

from askport.cli.on_cable import finder_on, run
from askport.core.channels import TcpPort
from askport.core.proofs.proof import Proving, Subject
from askport.core.proofs.reachable import PortOpens
from askport.edges.footing import Footing

_WHO_HAS_S = 3.0


async def is_walled(cable: Footing, far: TcpPort) -> bool:
    """Whether a port that this laptop's programs get nothing from opens to a bare question, past its firewall."""
    return isinstance(far.address, IPv4Address) and await _opens(cable, far.address, far.port)


async def _opens(cable: Footing, address: IPv4Address, port: int) -> bool:
    """Ask for the port over the bare wire, past the laptop's own firewall."""
    finder = finder_on(cable, measures=False)
    finder.call([address], now=cable.wire.now(), guess=False)
    await run(finder, cable, _WHO_HAS_S, lambda: any(each.is_found for each in finder.devices()))
    device = next((each for each in finder.devices() if each.best and each.best.address == address), None)
    laptop = next((each for each in await cable.addresses() if address in each.network), None)
    if device is None or laptop is None:
        return False
    at = IPv4Interface((address, laptop.network.prefixlen))
    subject = Subject(mac=device.mac, at=at, laptop_mac=cable.mac, laptop=laptop)
    proof = PortOpens(subject, port, now=cable.wire.now())
    await run(Proving([proof]), cable, _WHO_HAS_S, lambda: proof.done)
    return proof.passed is True
