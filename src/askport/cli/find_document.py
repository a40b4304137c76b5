"""The document that ``find`` prints (contract: askport.find/1)."""

from collections.abc import Callable
from datetime import datetime
from typing import Any

from askport.core import addresses, wire
from askport.core.finding.beliefs import AddressBelief
from askport.core.finding.device import Device
from askport.core.finding.finder import Finder
from askport.core.finding.hazards import wire_hazards
from askport.core.finding.label import compare_label
from askport.core.finding.sweeping import Sweeping
from askport.core.reach.beside import without_beside
from askport.reports.cells import iso


def find_document(
    finder: Finder,
    *,
    source: str,
    listened_s: float,
    counts: wire.Counts,
    label: str | None,
    wall: Callable[[float], datetime],
    maker: Callable[[addresses.MacAddress], str | None],
) -> dict[str, Any]:
    """Return what was found, as values of JSON."""
    hazards = [*finder.hazards(), *wire_hazards(counts)]
    return {
        "schema": "askport.find/1",
        "source": source,
        "laptop_macs": [str(mac) for mac in without_beside(finder.laptop_macs)],
        "loudness": str(finder.loudness),
        "listened_s": round(listened_s, 3),
        "frames": {
            "seen": counts.seen,
            "unreadable": finder.frames_unreadable,
            "lost": counts.lost,
            **({"shed": dict(counts.shed)} if counts.shed else {}),
        },
        "swept": _swept(finder.sweeping),
        "devices": [
            {
                "mac": str(device.mac),
                "maker": maker(device.mac),
                **({"label": compare_label(label, device.mac).sentence} if label else {}),
                "addresses": [_address(each) for each in device.addresses],
                "asks_for_address": _asking(device, wall),
                "names": [{"name": name, "source": source} for name, source in device.names],
                "identities": [each._asdict() for each in device.identities],
                "services": [
                    {"transport": each.transport, "port": each.port, "source": each.source} for each in device.services
                ],
                "tells": [each.sentence for each in device.others],
                "vlans": list(device.vlans),
                "first_heard": iso(wall(device.first_at)),
                "last_heard": iso(wall(device.last_at)),
                "frames": device.frames,
                "hazards": [each.code for each in hazards if device.mac in each.macs],
            }
            for device in finder.devices()
        ],
        "hazards": [
            {
                "code": each.code,
                "text": each.text,
                "mac": str(each.mac) if each.mac else None,
                "address": str(each.address) if each.address else None,
            }
            for each in hazards
        ],
    }


def _swept(sweeping: Sweeping | None) -> dict[str, Any] | None:
    if sweeping is None or sweeping.last_at is None:
        return None
    took_s = sweeping.last_at - sweeping.began_at
    return {"questions": sweeping.asked, "took_s": round(took_s, 3), "rate": round(sweeping.asked / max(took_s, 1e-3))}


def _address(belief: AddressBelief) -> dict[str, Any]:
    return {
        "address": str(belief.address),
        "belief": str(belief.belief),
        "origin": str(belief.origin),
        "prefix": belief.prefix,
        "prefix_basis": belief.prefix_basis and str(belief.prefix_basis),
        "prefix_range": list(belief.prefix_range) if belief.prefix_range else None,
        "gateway": str(belief.gateway) if belief.gateway else None,
        "gateway_basis": belief.gateway_basis and str(belief.gateway_basis),
        "because": [reason.sentence for reason in belief.because],
    }


def _asking(device: Device, wall: Callable[[float], datetime]) -> dict[str, Any] | None:
    asking = device.request
    if asking is None:
        return None
    return {
        "protocol": asking.protocol,
        "requests": asking.requests,
        "first": iso(wall(asking.first_at)),
        "last": iso(wall(asking.last_at)),
        "names": list(asking.names),
    }
