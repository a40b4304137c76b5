"""``askport reach``: why two addresses can or cannot talk, by arithmetic alone."""

from ipaddress import IPv4Address
from typing import Annotated

import typer

from askport.cli.saying import Status, put_json
from askport.core.addresses import parse_address, parse_interface
from askport.core.phrases import phrase
from askport.core.reach.can_talk import explain


def reach(
    laptop: Annotated[str, typer.Argument(metavar="LAPTOP/PREFIX", help="The laptop's address.")],
    device: Annotated[str, typer.Argument(metavar="DEVICE[/PREFIX]", help="The device's address.")],
    gateway: Annotated[str | None, typer.Option(help="The device's gateway.")] = None,
    json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False,
) -> None:
    """Show whether two addresses can talk, and why.

    Without a router. Exit status 1: they cannot.

    Example: askport reach 10.84.16.9/22 10.84.19.200/24
    """
    mine = parse_interface(laptop, phrase("laptop address"))
    address: IPv4Address
    prefix: int | None = None
    if "/" in device:
        far = parse_interface(device)
        address, prefix = far.ip, far.network.prefixlen
    else:
        address = parse_address(device)
    told = explain(mine, address, prefix, parse_address(gateway, "gateway") if gateway else None)
    if json:
        put_json(
            {
                "schema": "askport.reach/1",
                "laptop": str(mine),
                "device": device,
                "can_talk": told.can,
                "agreeing_bits": told.agree,
                "laptop_sends": told.laptop_sends,
                "device_answers": told.device_answers,
                "because": list(told.lines),
            }
        )
    else:
        print("\n".join((*told.lines, phrase("They can talk.") if told.can else phrase("They cannot talk."))))
    if not told.can:
        raise typer.Exit(Status.NO)
