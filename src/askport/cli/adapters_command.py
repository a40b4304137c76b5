"""``askport adapters``."""

from askport.cli.saying import JsonOption, put_json
from askport.core.phrases import phrase


def adapters(json: JsonOption = False) -> None:
    """List the laptop's adapters.

    Name, kind, link, MAC address, addresses and warnings of each.

    Example: askport adapters --json
    """
    from askport.core.text import speed_words
    from askport.edges.adapters import list_adapters

    found = list_adapters()
    if json:
        devices = [
            {
                "name": each.name,
                "kind": each.kind,
                "link": "up" if each.link_up else "down",
                "speed_mbps": each.speed_mbps,
                "duplex": "half" if each.half_duplex else "full" if each.link_up else None,
                "driver": each.driver,
                "mac": each.mac,
                "addresses": [{"address": str(a.interface), "origin": a.origin} for a in each.addresses],
                "gateway": str(each.gateway) if each.gateway else None,
                "dns": list(each.dns),
                "manager": each.manager,
                "hazards": [{"code": code, "text": text} for code, text in each.hazards],
            }
            for each in found
        ]
        put_json({"schema": "askport.adapters/1", "adapters": devices})
        return
    for each in found:
        link = [phrase("link up") if each.link_up else phrase("link down")]
        link += [speed_words(each.speed_mbps)] if each.speed_mbps else []
        print(f"{each.name}  {each.kind}, {', '.join(link)}  {each.mac or ''}")
        for address in each.addresses:
            print(f"    {address.interface}  {address.origin}")
        for _, text in each.hazards:
            print(f"    {text}")
