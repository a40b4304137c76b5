"""Which row of the plan a device is: what speaks for each, and when a person has to decide."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

from askport.core.addresses import MacAddress
from askport.core.phrases import phrase
from askport.core.plan.working_order import WorkItem
from askport.core.register.known import Known


@dataclass(frozen=True, slots=True)
class Claim:
    """One device of the job that the one on the cable may be."""

    item: WorkItem
    because: str
    """What speaks for it, to stand behind its tag."""
    against: str = ""
    """What speaks against it: another MAC address in its row, or on its label."""
    revisits: bool = False
    """Whether the register has it, so that it was not the next one's turn."""

    @property
    def words(self) -> str:
        """The tag with all that speaks for and against it."""
        values = {"tag": self.item.tag, "because": self.because, "against": self.against}
        return phrase("{tag} ({because}, but {against})" if self.against else "{tag} ({because})", **values)


def claims_on(
    mac: MacAddress,
    next_item: WorkItem,
    rows: Sequence[WorkItem],
    known: Known | None,
    *,
    is_meant: bool,
    label_mac: MacAddress | None,
) -> list[Claim]:
    """Return what the device may be, the likeliest first; whose turn it is counts only where nothing else does.

    Args:
        is_meant: whether the technician chose that one, and not the order.
        label_mac: the MAC address on the label of the device that is meant, where it is known.
    """
    planned = next((each for each in rows if each.mac == mac), None)
    found: dict[str, Claim] = {}

    def claim(item: WorkItem, because: str, *, revisits: bool = False) -> None:
        key = item.tag.casefold()
        if earlier := found.get(key):
            found[key] = replace(earlier, because=f"{earlier.because}, {because}")
            return
        against = phrase("the plan has {mac} for it", mac=item.mac) if item.mac not in (None, mac) else ""
        if not against and label_mac not in (None, mac, next_item.mac):
            against = phrase("its label says {label_mac}", label_mac=label_mac)
        found[key] = Claim(item, because, against, revisits)

    if planned:
        claim(
            planned, phrase("the plan has its MAC address"), revisits=known is not None and planned.tag != next_item.tag
        )
    if is_meant:
        claim(next_item, phrase("you chose it"))
    if known and known.is_named:
        row = next((each for each in rows if each.tag.casefold() == known.tag.casefold()), None)
        bare = WorkItem(tag=known.tag, target=known.target, mac=mac)
        item = bare if row is None else replace(row, target=row.target or known.target)
        claim(item, phrase("the register has it, {state}", state=known.state), revisits=item.tag != next_item.tag)
    if not found:
        claim(next_item, phrase("it is next"))
    return list(found.values())


def is_decided(claims: Sequence[Claim]) -> bool:
    """Whether there is one device that it can be, and nothing speaks against that."""
    return len(claims) == 1 and not claims[0].against
