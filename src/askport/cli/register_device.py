"""Naming a device of a register on the command line."""

from typing import TYPE_CHECKING, Annotated

import typer

from askport.core.addresses import MacAddress
from askport.core.errors import BadInput
from askport.core.phrases import listed
from askport.core.text import display_text

if TYPE_CHECKING:
    from askport.core.register.visits import Row
    from askport.edges.jobfile import JobFile

Tag = Annotated[str, typer.Argument(help="The device's tag, or its MAC address.")]


def device_of(job: "JobFile", text: str) -> "Row":
    """Return the device that is meant by its tag or its MAC address.

    Raises:
        BadInput: there is none, or more than one.
    """
    found = job.register.by_tag(text.strip())
    if len(found) > 1:
        macs = listed([str(each.mac) for each in found])
        raise BadInput("'{text}' is the tag of {macs}: give the MAC address.", text=display_text(text, 40), macs=macs)
    if found:
        return found[0]
    try:
        row = job.register.by_mac(MacAddress.parse(text))
    except BadInput:
        row = None
    if row is None:
        raise BadInput(
            "'{text}' is not a tag in '{path}': 'askport register list' shows them.",
            text=display_text(text, 40),
            path=job.path,
        )
    return row
