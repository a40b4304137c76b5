"""Which kinds a device may be of, by all that was heard of it, with the reason."""

from collections.abc import Iterable
from dataclasses import dataclass
from fnmatch import fnmatchcase

from askport.core.addresses import MacAddress
from askport.core.finding.clues import Identity
from askport.core.finding.device import Device
from askport.core.kinds.model import Kind, Numbers, Recognise
from askport.core.phrases import listed, phrase


@dataclass(frozen=True, slots=True)
class Fit:
    """A kind that fits a device."""

    kind: Kind
    reason: str
    strictness: int
    """How much of it had to fit: of two, the stricter is the likelier."""
    is_offer: bool = False
    """Whether the kind says that what fits does not make it sure: it is offered, and never taken by itself."""


def fitting_kinds(
    kinds: Iterable[Kind], device: Device, *, banners: Iterable[str] = (), ports: Iterable[int] = ()
) -> list[Fit]:
    """Return the kinds that fit, the strictest first.

    Args:
        banners: the first text of its console, and its page's title, where they were read.
    """
    opens, words = {*ports, *(each.port for each in device.services)}, list(banners)
    found = (_fit(kind, device, words, opens) for kind in kinds)
    return sorted((each for each in found if each), key=lambda each: -each.strictness)


def before_it_speaks(kind: Kind) -> Kind:
    """Return a kind as it is recognised before a console or a page has said anything."""
    return kind.model_copy(update={"recognise": kind.recognise.model_copy(update={"banner": ()})})


def possible_kinds(kinds: Iterable[Kind], mac: MacAddress, device: Device | None = None) -> list[Kind]:
    """Return the kinds that a device may be of as far as is known before it speaks, the strictest first.

    Args:
        device: what was heard of it, or None where nothing was, so that only its MAC address tells.
    """
    silent = [before_it_speaks(each) for each in kinds]
    if device:
        return [each.kind for each in fitting_kinds(silent, device)]
    return [each for each in silent if each.recognise.mac and mac.hex().startswith(tuple(each.recognise.mac))]


def wants_first_words(kinds: Iterable[Kind], device: Device, *, ports: Iterable[int] = ()) -> bool:
    """Whether only its console's first text or its page's title can tell of which kind a device is."""
    known = list(kinds)
    if any(not each.is_offer for each in fitting_kinds(known, device, ports=ports)):
        return False
    without = [before_it_speaks(each) for each in known if each.recognise.banner]
    bare = [each for each in without if each.recognise == Recognise()]
    return bool(bare or fitting_kinds(without, device, ports=ports))


def _fit(kind: Kind, device: Device, banners: list[str], ports: set[int]) -> Fit | None:
    wanted, reasons, strictness = kind.recognise, list[str](), 0
    if wanted.mac:
        digits = device.mac.hex()
        mine = [each for each in wanted.mac if digits.startswith(each)]
        if not mine:
            return None
        reasons.append(phrase("its MAC address"))
        strictness += max(map(len, mine))
    if wanted.names:
        named = next((name for name, _ in device.names if _like(name, wanted.names)), None)
        if named is None:
            return None
        reasons.append(phrase("its name {named}", named=named))
        strictness += 10
    if wanted.identity:
        known = [each for each in device.identities if any(_is(each, numbers) for numbers in wanted.identity)]
        if not known:
            return None
        reasons.append(phrase("its {words}", words=known[0].words))
        strictness += 12
    if wanted.banner:
        shown = next((each for each in banners if _like(each, wanted.banner)), None)
        if shown is None:
            return None
        reasons.append(phrase("its text “{shown}”", shown=shown[:40]))
        strictness += 10
    if wanted.ports:
        if not ports & set(wanted.ports):
            return None
        opens = sorted(ports & set(wanted.ports))
        reasons.append(f"port{'s' if len(opens) > 1 else ''} {listed(opens)}")
        strictness += 2
    if not reasons:
        return None  # it recognises nothing, and is only named
    return Fit(kind, phrase("by {reasons}", reasons=listed(reasons)), strictness, is_offer=not wanted.sure)


def _is(identity: Identity, wanted: Numbers) -> bool:
    numbers = (wanted.vendor, identity.vendor), (wanted.product, identity.product)
    says_so = wanted.text is None or _like(identity.text, (wanted.text,))
    return identity.protocol == wanted.protocol and says_so and all(want in (None, has) for want, has in numbers)


def _like(text: str, patterns: Iterable[str]) -> bool:
    return any(fnmatchcase(text.lower(), each.lower()) for each in patterns)
