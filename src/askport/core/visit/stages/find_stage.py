"""Find: which device is meant, and which address it has."""

from ipaddress import IPv4Address

from askport.core import addresses, errors
from askport.core.finding import beliefs, blinking, clues, loudness
from askport.core.finding.device import Device
from askport.core.finding.sweeping import Sweeping
from askport.core.machine import KeepFrames, Send
from askport.core.phrases import phrase, together
from askport.core.plan.claims import Claim, claims_on, is_decided
from askport.core.register import entries, writing
from askport.core.text import span_words
from askport.core.visit import steps, transitions
from askport.core.visit.stages.stage import POWER, Next, Siblings, Stage
from askport.core.visit.visit import Visit

DECIDING_KEYS = ("7", "8", "9")
"""Keys that decide which device of the job it is; 1 to 6 look at steps."""
SILENCE_S = 10.0
"""Silence after which it is worth saying what to do about it."""
_LOUDER = {
    loudness.Loudness.LISTEN: phrase("Send discovery requests"),
    loudness.Loudness.GREET: phrase("Try common addresses (ARP)"),
    loudness.Loudness.CALL: phrase("Sweep all private ranges, most likely first"),
    loudness.Loudness.SWEEP: phrase("Sweep once more"),
}
_TRIED = {
    loudness.Loudness.LISTEN: "",
    loudness.Loudness.GREET: "",
    loudness.Loudness.CALL: phrase("No common address answers."),
    loudness.Loudness.SWEEP: phrase("The sweep is over."),
}


class Find(Stage):
    """Hears, asks, and takes the device that is meant."""

    step = steps.Step.FIND

    def __init__(self, visit: Visit, stages: Siblings) -> None:
        super().__init__(visit, stages)
        self._claimed: tuple[object, list[Claim]] | None = None
        """What the device that was looked at last may be, and what that was made of."""

    def enter(self, now: float) -> None:
        """Take the device that is found, or ask louder."""
        search = self._visit.cable.search
        if self._visit.phase is not steps.Phase.FINDING:
            return
        if not (search.candidate and self._visit.may_be_taken(search.candidate)):
            search.louder(now)
        elif search.obstacle is None and not self.undecided:
            self.choose(search.candidate.mac, now)

    def _claims(self, mac: addresses.MacAddress) -> list[Claim]:
        cable, device = self._visit.cable, self._visit.device
        asked = mac, device.next_item, device.is_meant, cable.search.label_mac
        if self._claimed is None or self._claimed[0] != asked:  # the register is asked, and the screen draws often
            found = claims_on(
                mac, device.next_item, cable.around.rows, cable.around.known.get(mac),
                is_meant=device.is_meant, label_mac=cable.search.label_mac,
            )  # fmt: skip
            self._claimed = asked, found
        return self._claimed[1]

    @property
    def undecided(self) -> list[Claim]:
        """What the device that Enter would take may be, where a person has to decide, or nothing."""
        found = self._visit.cable.search.candidate
        if self._visit.phase is not steps.Phase.FINDING or found is None or not self._visit.may_be_taken(found):
            return []
        claims = self._claims(found.mac) if self._visit.device.decided != found.mac else []
        return [] if is_decided(claims) else claims

    def decide(self, place: int, now: float) -> None:
        """Take in which of them it is, and go on with it; the plan has its MAC address in that row from now on."""
        found, claims = self._visit.cable.search.candidate, self.undecided
        if found is None or place >= len(claims):
            return
        device, item = self._visit.device, claims[place].item
        for row in (each.planned for each in self._visit.cable.around.rows):
            if row and row.tag == item.tag and row.mac != found.mac:
                self._visit.write(entries.DevicePlanned(device=row.model_copy(update={"mac": found.mac})))
            elif row and row.tag != item.tag and row.mac == found.mac:
                self._visit.write(entries.DevicePlanned(device=row.model_copy(update={"mac": None})))
        device.become(claims[place])
        device.decided = self._visit.cable.search.pointed_at = self._visit.cable.search.label_mac = found.mac
        if self._visit.cable.search.obstacle is None:
            self.choose(found.mac, now)

    def choose(self, mac: addresses.MacAddress, now: float) -> None:
        """Take this device for the one that is to be commissioned.

        Raises:
            BadInput: nothing certain is known about it.
        """
        cable, device = self._visit.cable, self._visit.device
        found = cable.finder.device(mac)
        contested = found is not None and found.is_contested and cable.search.label_mac == mac
        if found is None or not (self._visit.may_be_taken(found) or contested):
            raise errors.BadInput("{mac} has no confirmed address yet. Wait, or press + to search more.", mac=mac)
        claims = self._claims(mac)
        if device.decided != mac and not is_decided(claims):
            raise errors.BadInput("Which is {mac}? {choices}.", mac=mac, choices=_or([each.words for each in claims]))
        if device.decided != mac:
            device.become(claims[0])
        cable.finder.listen()
        device.chosen, cable.search.pointed_at = found, mac
        alone = sum(each.is_present for each in cable.finder.devices()) == 1
        if found.best and not found.request and found.best.prefix_basis is not beliefs.Basis.MEASURED and alone:
            cable.finder.measure(mac, found.best.address, now)
            self._visit.go(transitions.Event.MEASURES)
        else:
            self._found(found, now)

    def blink(self) -> bool:
        """Have the device at hand show itself; whoever sees it knows which unit it is, as by its label."""
        cable = self._visit.cable
        device = cable.search.candidate
        if device is None or not blinking.can_blink(device):
            return False
        self._visit.effects += [Send(each) for each in blinking.blink_frames(device, cable.laptop.mac, cable.xid)]
        cable.search.pointed_at = cable.search.label_mac = device.mac
        return True

    def follow(self, now: float) -> None:
        """Go on once it is measured."""
        visit = self._visit
        if visit.phase is steps.Phase.MEASURING and visit.device.chosen and visit.cable.finder.measuring is None:
            mac = visit.device.chosen.mac
            self._found(visit.cable.finder.device(mac) or visit.device.chosen, now)

    def _found(self, found: Device, now: float) -> None:
        """Record the device as it was found, with the frames that say so, and go on to reaching it."""
        visit, device = self._visit, self._visit.device
        device.chosen = found
        visit.see_kind()
        maker = visit.cable.around.maker(found.mac)
        entry, frames = writing.found(found, unit=device.unit, tag=device.work.tag, maker=maker)
        visit.write(entry)
        visit.effects.append(KeepFrames(device.unit, frames))
        known = visit.cable.around.known.get(found.mac)
        if known and known.tag != device.work.tag:
            visit.write(entries.Named(unit=device.unit, mac=found.mac, tag=device.work.tag))
        best = found.best if not found.request else None
        if best is None and not found.request and not visit.set_unseen(found) and visit.shows_ipv6(found):
            self._stages.reach.over_ipv6(now)
        elif best is None or (not found.is_found and visit.set_unseen(found)):
            self._stages.setting.prepare(now)
        else:
            self._stages.reach.begin(best.address, best.prefix, now)

    def next(self, now: float) -> Next:
        """Say whom Enter takes, or what it asks."""
        visit, finder = self._visit, self._visit.cable.finder
        if visit.phase is steps.Phase.MEASURING:
            return Next(phrase("Measuring the device's mask and gateway."))
        device = visit.cable.search.candidate
        if device and visit.may_be_taken(device):
            if obstacle := visit.cable.search.obstacle:
                return Next(obstacle)
            if claims := self.undecided:
                return Next(_decide(device, claims))
            return self._take(device)
        if device and device.is_crowded and device.best:
            text = phrase(
                "{mac} answers for several devices; which one has {address} is unknown.",
                mac=device.mac,
                address=device.best.address,
            )
            return Next(text, hands=phrase("Connect straight to the device, or press m and scan its label."))
        if finder.sweeping and not finder.sweeping.done:
            return _sweeping(finder.sweeping, visit.cable.search.faster)
        if finder.calling and not finder.calling.done:
            share = phrase("{asked} of {total} questions", asked=finder.calling.asked, total=finder.calling.total)
            return Next(phrase("Sending ARP requests for common addresses: {share}.", share=share), hands=POWER)
        heard, hands = (
            phrase("The device is sending, but has not shown its address yet.") if device else phrase("Listening."),
            "",
        )
        silent_s = now - max(visit.cable.link.since, visit.cable.began_at, device.last_at if device else 0.0)
        if silent_s >= SILENCE_S:
            nothing = "Nothing more heard for {silent}." if device else "Nothing heard for {silent}."
            heard, hands = phrase(nothing, silent=span_words(silent_s)), POWER
            if device and device.link_local and visit.cable.laptop.is_beside:
                heard = phrase("Only an IPv6 address heard: press o to open its web page.")
        louder = f"{_LOUDER[finder.loudness]}."
        if self._first:
            louder = phrase("{louder}, {first} first, which its manual gives.", louder=louder[:-1], first=self._first)
        return Next(together(heard, _TRIED[finder.loudness]), louder, hands)

    @property
    def _first(self) -> IPv4Address | None:
        """The address that is asked for before others, where its manual gives one."""
        delivered = self._visit.device.work.delivered
        calls = self._visit.cable.finder.loudness in (loudness.Loudness.LISTEN, loudness.Loudness.GREET)
        return delivered.ip if delivered and calls else None

    def _take(self, device: Device) -> Next:
        around = self._visit.cable.around
        who = f"{device.mac} ({around.maker(device.mac) or 'maker unknown'})"
        codes = {hazard.code for hazard in self._visit.cable.finder.hazards()}
        several = "several-devices" in codes
        check = phrase("This is {words}.", words=known.words) if (known := around.known.get(device.mac)) else ""
        claim = self._claims(device.mac)[0]
        if not known and claim.item.tag != self._visit.device.work.tag:
            who = phrase("{who} as {words}", who=who, words=claim.words)
        hands = (
            phrase("Several devices heard: check the label, or press x to set them all by label.") if several else ""
        )
        if codes & {"address-server", "router"}:
            hands = phrase("The cable is in a live network: check the label first.")
        if not device.is_found and (unseen := self._visit.set_unseen(device)):
            return Next(
                together(check, phrase("It has shown no address."), unseen.reason),
                phrase("Use this device: {who}.", who=who),
                hands,
            )
        if not device.is_found and self._visit.only_over_ipv6(device):
            over = phrase("{who} over IPv6, at {link_local}", who=who, link_local=device.link_local)
            return Next(
                together(check, phrase("It answers for no common IPv4 address.")),
                phrase("Use this device: {over}.", over=over),
                hands,
            )
        if device.request:
            asks = phrase("It requests an address by {protocol}.", protocol=device.request.protocol.upper())
            return Next(together(check, asks), phrase("Use this device: {who}.", who=who), hands)
        if device.best:
            who = phrase("{who} at {address}", who=who, address=device.best.address)
        return Next(check, phrase("Use this device: {who}.", who=who), hands)

    def result(self) -> str:
        """Say which address it has, and how sure that is."""
        device = self._visit.device.chosen or self._visit.cable.search.candidate
        if device is None:
            return phrase("nothing heard yet")
        if device.request:
            return phrase("asks by {protocol}", protocol=device.request.protocol.upper())
        if device.best is None:
            return phrase("heard, no address yet")
        sure = "" if device.best.belief is clues.Belief.CERTAIN else f" {device.best.belief.words}"
        return f"{device.best.address}{sure}"


def _decide(device: Device, claims: list[Claim]) -> str:
    """Name all that it may be, each with its key."""
    choices = _or(
        [
            phrase("{key} for {words}", key=key, words=each.words)
            for key, each in zip(DECIDING_KEYS, claims, strict=False)
        ]
    )
    return phrase("Which planned device is {mac}? Press {choices}.", mac=device.mac, choices=choices)


def _or(choices: list[str]) -> str:
    return " or ".join(choices)


def _sweeping(sweeping: Sweeping, faster: float | None) -> Next:
    left = phrase(
        "at {at}, {asked:.1%} done, {left_s} left",
        at=sweeping.at,
        asked=sweeping.asked / sweeping.total,
        left_s=span_words(sweeping.left_s),
    )
    if sweeping.is_paused:
        return Next(phrase("Sweep paused {left}. Press Space to resume.", left=left))
    said = "Sweeping: {left}. Press + for {faster:,.0f} a second, a to sweep a range of your own, Space to pause."
    said = said if faster else "Sweeping: {left}. Press a to sweep a range of your own, Space to pause."
    return Next(phrase(said, left=left, faster=faster or 0))
