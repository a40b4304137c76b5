"""One error root with a branch for each of the contract's exit statuses."""

from enum import StrEnum
from typing import ClassVar

from askport.core.phrases import phrase


class AskPortError(Exception):
    """Something went wrong that the technician can act on.

    The message is one phrase that names the input or thing, the fault and the remedy; ``values`` are what it names.
    """

    exit_status: ClassVar[int] = 1

    def __init__(self, message: str, /, *, code: str = "", **values: object) -> None:
        self.message = phrase(message, **values)
        super().__init__(self.message)
        self.code = code or type(self).__name__
        """A stable word for scripts."""


TAKEN_ELSEWHERE = "taken-elsewhere"
"""The code of a refusal to borrow what another run of Ask Port, or another place of this one, has already."""


class Wants(StrEnum):
    """What has to be named before a device can be talked to: the code of the error that says so."""

    LINE = "line"
    """The serial line that its console is on."""
    COMMUNITY = "community"
    """The community that its SNMP agent lets in (RFC 3584)."""
    LOG_IN = "log-in"
    """A name and a password."""


class BadInput(AskPortError):
    """What was typed, or a file that was named, cannot be meant."""

    exit_status = 2


class Refused(AskPortError):
    """The work ran and the answer is no: the wire or the device, or safety, forbids it."""

    exit_status = 1


class MachineRefused(AskPortError):
    """The laptop would not let us: no such adapter, no link, no permission, a full disk."""

    exit_status = 3
