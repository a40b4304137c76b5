"""Giving back what interrupted runs have left, for ``askport restore``; it needs the keeper's rights."""

from dataclasses import dataclass, field

from askport.core.errors import MachineRefused
from askport.edges.keeper import journal, refusal
from askport.edges.keeper.adapter import Adapter
from askport.edges.kernel import rtnetlink as kernel
from askport.edges.kernel import state


@dataclass(slots=True)
class Restored:
    """What came of giving back on one adapter."""

    given: list[str] = field(default_factory=list)
    """What was given back."""
    left: list[str] = field(default_factory=list)
    """What could not be, with the reason; it is kept for the next time."""
    is_gone: bool = False
    """Whether the adapter is not there any more, so that nothing is left to give back."""


def give_back_all(only: str | None = None) -> dict[str, Restored]:
    """Give back what interrupted runs left borrowed in this namespace, by the adapters' names of now.

    Raises:
        MachineRefused: another run is using an adapter, or nothing may be changed.
    """
    restored: dict[str, Restored] = {}
    try:
        present = state.adapters(kernel.Kernel())
        for path in journal.files():
            whose = journal.whose_of(path)
            now = next((each for each in present if whose and journal.is_same(whose, each)), None)
            name = str(now["name"] if now else whose["name"] if whose else path.stem.partition("-")[2])
            if now is None and whose is None and any(each["name"] == name for each in present):
                now = next(each for each in present if each["name"] == name)
            if only not in (None, name):
                continue
            if now:
                adapter = Adapter(name)
                restored[name] = Restored(adapter.restored, adapter.left)
                adapter.close()
            else:
                path.unlink(missing_ok=True)
                restored[name] = Restored(is_gone=True)
    except refusal.Refusal as error:
        raise MachineRefused(str(error)) from None
    except OSError as error:
        raise MachineRefused("What was borrowed could not be given back: {why}.", why=error.strerror or error) from None
    return restored
