"""Giving back what interrupted runs have left, for ``askport restore``; it needs the keeper's rights."""

from pyroute2 import IPRoute

from askport.core.errors import MachineRefused
from askport.edges.keeper import journal
from askport.edges.keeper.adapter import Adapter, Refusal


def give_back_all(only: str | None = None) -> dict[str, list[str]]:
    """Give back what interrupted runs left borrowed in this namespace: adapter to what was given back.

    Raises:
        MachineRefused: another run is using an adapter, or nothing may be changed.
    """
    given: dict[str, list[str]] = {}
    start = journal.start_of_names()
    for path in sorted(journal.DIRECTORY.glob(f"{start}*.json")):
        name = path.stem.removeprefix(start)
        if only not in (None, name):
            continue
        if IPRoute().link_lookup(ifname=name):
            try:
                given[name] = Adapter(name).restored
            except Refusal as error:
                raise MachineRefused(str(error)) from None
        else:
            path.unlink(missing_ok=True)
            given[name] = []
    return given
