"""``askport find``, ``read`` and ``measure``; what they do is loaded once it is done."""

from pathlib import Path
from typing import Annotated

import typer

from askport.cli.saying import JsonOption


def find(
    adapter: Annotated[str, typer.Argument(help="The adapter that the cable is in.")],
    loudness: Annotated[str, typer.Option(help="listen, greet, call or sweep: how much the laptop sends.")] = "listen",
    seconds: Annotated[float | None, typer.Option(help="How long at the most.")] = None,
    within: Annotated[list[str] | None, typer.Option(help="A range to ask in, such as 10.84.16.0/24.")] = None,
    rate: Annotated[float | None, typer.Option(help="Questions a second.")] = None,
    until_found: Annotated[bool, typer.Option("--until-found", help="End at the first sure address.")] = False,
    label: Annotated[str | None, typer.Option(help="The MAC address on the label, or its last digits.")] = None,
    save: Annotated[Path | None, typer.Option(help="Keep what passed in this pcapng file.")] = None,
    json: JsonOption = False,
) -> None:
    """Find the devices on the cable.

    Waits for the link within the seconds given. Exit status 1: no device showed an address or asked for
    one, or none is that of the label; 3: the link never came up.

    Example: askport find enp3s0 --loudness call --until-found --json
    """
    from askport.cli.find_run import find_on_cable

    find_on_cable(
        adapter, loudness=loudness, seconds=seconds, within=within or [], rate=rate, until_found=until_found,
        label=label, save=save, json=json,
    )  # fmt: skip


def read(
    file: Annotated[Path, typer.Argument(help="A capture file, pcap or pcapng.")],
    laptop: Annotated[list[str] | None, typer.Option(help="A MAC address of the laptop that took it.")] = None,
    label: Annotated[str | None, typer.Option(help="The MAC address on the label, or its last digits.")] = None,
    json: JsonOption = False,
) -> None:
    """Find the devices in a capture file (pcap or pcapng).

    Example: askport read wire.pcapng
    """
    from askport.cli.find_run import read_capture

    read_capture(file, laptop or [], label, json=json)


def measure(
    adapter: Annotated[str, typer.Argument(help="The adapter that the cable is in.")],
    mac: Annotated[str, typer.Option(help="The device's MAC address.")],
    address: Annotated[str, typer.Option(help="The device's address.")],
    json: JsonOption = False,
) -> None:
    """Measure a device's subnet mask and gateway from outside.

    By the next hop of its answers. Exit status 1: the mask could not be measured.

    Example: askport measure enp3s0 --mac 00:00:5e:00:53:10 --address 192.168.61.7
    """
    from askport.cli.find_run import measure_device

    measure_device(adapter, mac, address, json=json)
