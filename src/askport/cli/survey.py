"""``askport survey``: what the site network holds, beside the plan."""

import asyncio
import secrets
from pathlib import Path
from typing import Annotated, Any

import typer

from askport.cli import on_cable, opened_jobs, saying
from askport.core import addresses, errors, machine
from askport.core.finding.calling import DEFAULT_RATE
from askport.core.phrases import listed, phrase
from askport.core.survey.offers import OfferLook, Server

_LAST_ANSWERS_S = 0.3
"""How long the last answers are waited for."""
_MAX_RATE = 1000.0
_MOST_ASKED = 1 << 16
"""Addresses in one range."""


def survey(
    adapter: Annotated[str, typer.Argument(help="The adapter that is in the site network.")],
    job: Annotated[Path, typer.Option("--job", help="The job with the plan.")],
    rate: Annotated[float, typer.Option(help="Questions a second.")] = DEFAULT_RATE,
    within: Annotated[list[str] | None, typer.Option(help="Also ask in this range, such as 10.84.16.0/24.")] = None,
    json: saying.JsonOption = False,
) -> None:
    """Compare the site network with the plan.

    Nothing is changed. Exit status 1: a device is missing, or somebody else has its address.

    Example: askport survey enp3s0 --job site.askport
    """
    from askport.core.survey.against_plan import against_plan, ask_all, gateways_said, holders_in, to_ask

    if not 0 < rate <= _MAX_RATE:
        raise errors.BadInput(
            "A rate of {rate:g} is not possible: give up to {max_rate:g} questions a second.",
            rate=rate,
            max_rate=_MAX_RATE,
        )
    register = opened_jobs.open_job(job).register
    plan, standings = register.plan(job.stem), register.standings()
    ranges = [addresses.parse_network(each) for each in within or []]
    for wide in ranges:
        if wide.num_addresses > _MOST_ASKED:
            hours = wide.num_addresses / rate / 3600
            text = phrase(
                "'{wide}' has {num_addresses:,} addresses, which takes {hours:.1f} hours at {rate:g} a second",
                wide=wide,
                num_addresses=wide.num_addresses,
                hours=hours,
                rate=rate,
            )
            raise errors.BadInput(
                "{text}: name ranges of up to {most_asked:,}, such as /16.", text=text, most_asked=_MOST_ASKED
            )
    asked = dict.fromkeys([*to_ask(plan, standings.values()), *(host for each in ranges for host in each.hosts())])
    if not asked:
        raise errors.BadInput("'{job}' has no plan to ask by: import one, or name a range with --within.", job=job)
    with on_cable.open_cable(adapter) as cable:
        finder = on_cable.finder_on(cable, measures=False)
        finder.laptop_addresses |= {each.ip for each in cable.own}
        minutes = len(asked) / rate / 60
        asks = (
            "Asking for {count} addresses at {rate:g} a second, which takes {minutes:.0f} minutes; nothing is changed."
        )
        asks = asks if minutes >= 1 else "Asking for {count} addresses at {rate:g} a second; nothing is changed."
        saying.say(asks, count=len(asked), rate=rate, minutes=minutes)
        offers = OfferLook(cable.mac, secrets.randbits(32), now=cable.wire.now())
        ask_all(finder, asked, now=cable.wire.now(), rate=rate)
        settled: list[float] = []

        def over() -> bool:
            if not settled and finder.has_settled:
                settled.append(cable.wire.now() + _LAST_ANSWERS_S)
            return bool(settled) and cable.wire.now() >= settled[0]

        asyncio.run(on_cable.run(machine.Together(finder, offers), cable, None, over))
        own = {each.ip: {cable.mac} for each in cable.own}
    holders: dict[Any, set[addresses.MacAddress]] = {**holders_in(finder), **own}
    found = against_plan(plan, standings, holders, asked)
    gateways = [each.gateway for each in plan.subnets if each.gateway]
    gateway = next((each for each in gateways if each in holders), None)
    server = next(iter(offers.servers.values()), None)
    notes = [*gateways_said(plan, holders), *_of_server(gateways, server)]
    if json:
        saying.put_json(
            {
                "schema": "askport.survey/1",
                "gateway": {"address": str(gateway), "mac": str(min(holders[gateway]))} if gateway else None,
                "server": _server_json(server) if server else None,
                "found": [
                    {"mac": str(mac), "address": str(at)}
                    for at, macs in sorted(holders.items())
                    for mac in sorted(macs)
                ],
                "planned": [
                    {
                        "tag": each.tag,
                        "address": str(each.address) if each.address else None,
                        "state": each.state,
                        "mac": str(each.mac) if each.mac else None,
                        "text": each.sentence,
                    }
                    for each in found
                ],
                "notes": notes,
            }
        )
    else:
        for each in found:
            print(each.sentence)
        strangers = [
            f"{at} ({listed(macs)})" for at, macs in sorted(holders.items()) if not _is_known(at, found, gateways)
        ]
        if strangers:
            print(phrase("Also there: {strangers}.", strangers=listed(strangers)))
        for note in notes:
            print(note)
    if any(each.state in ("held-by-another", "missing") for each in found):
        raise typer.Exit(saying.Status.NO)


def _is_known(at: Any, found: Any, gateways: Any) -> bool:
    return at in gateways or any(each.address == at and each.state != "held-by-another" for each in found)


def _of_server(gateways: list[Any], server: Server | None) -> list[str]:
    if server is None:
        return [phrase("No address server answers here.")]
    offers = phrase(
        "offers {offered} for {lease_s} s" if server.lease_s else "offers {offered}",
        offered=listed(sorted(server.offered)),
        lease_s=server.lease_s,
    )
    notes = [
        phrase(
            "The address server {address} {offers}, DNS {dns}.",
            address=server.address,
            offers=offers,
            dns=listed(server.dns) or "none",
        )
    ]
    if server.gateway and gateways and server.gateway not in gateways:
        notes.append(
            phrase(
                "It names the gateway {gateway}, which is not planned: planned is {gateways}.",
                gateway=server.gateway,
                gateways=listed(gateways),
            )
        )
    return notes


def _server_json(server: Server) -> dict[str, object]:
    return {
        "address": str(server.address),
        "offered": [str(each) for each in sorted(server.offered)],
        "gateway": str(server.gateway) if server.gateway else None,
        "dns": [str(each) for each in server.dns],
        "lease_s": server.lease_s,
    }
