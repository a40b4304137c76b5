"""By hand: the technician uses the device's own page or keypad, and the wire tells when it has moved, and where to."""

from collections.abc import Iterable
from ipaddress import IPv4Address, IPv4Interface

from askport.core.addresses import LINK_LOCAL, MacAddress, is_transposition
from askport.core.finding.tracking import Sighting
from askport.core.phrases import phrase
from askport.core.plan.target import Target
from askport.core.ways.way import Result, Way
from askport.core.wire import Heard


class ByHand(Way):
    """Watches the wire while somebody else changes the address."""

    name = "hand"
    gives = False
    permanent = None

    def __init__(
        self,
        mac: MacAddress,
        target: Target,
        *,
        laptop_mac: MacAddress,
        laptop: IPv4Interface | None,
        old: IPv4Address | None,
        now: float,
        landings: Iterable[IPv4Address] = (),
    ) -> None:
        """Start watching.

        Args:
            target: where to.
            laptop: the laptop's address, if it has one; questions come from it.
            landings: where a slip may take it, asked for once it has left its old address.
        """
        ours = [laptop.ip] if laptop else []
        super().__init__(mac, target, laptop_mac=laptop_mac, ours=ours, now=now, was=old, landings=landings)
        self._tracker.look_from(now)
        self._said_proxy = False

    @property
    def moved_to(self) -> IPv4Address | None:
        """Where the device is now, if it has left its old address for another than the planned one."""
        return self._tracker.moved_to

    @property
    def waits_for(self) -> str:
        """What it waits for."""
        target, moved_to = self.target.interface.ip, self._tracker.moved_to
        if self._tracker.answers_for_others:
            return self._proxy_sentence()
        if moved_to and moved_to in LINK_LOCAL:
            return phrase(
                "It has no address of its own now and fell back to {moved_to}. Waiting for {target}.",
                moved_to=moved_to,
                target=target,
            )
        if moved_to:
            return phrase(
                "It moved to {moved_to}, not to {target}. Correct it at {moved_to}.", moved_to=moved_to, target=target
            )
        if self._tracker.has_left:
            was = self._tracker.was
            gone = (
                phrase("It has left {was}", was=was)
                if self._tracker.was_heard_before
                else phrase("It has not answered at {was} yet", was=was)
            )
            return phrase("{gone}. Waiting for it at {target}.", gone=gone, target=target)
        return phrase("Type these values on its web page or keypad and save. Ask Port shows when the address changes.")

    def receive(self, heard: Heard) -> None:
        if not self.done:
            self._tracker.receive(heard)
            self._take_news()

    def _take_news(self) -> None:
        target = self.target.interface.ip
        for seen in self._tracker.news():
            match seen.kind:
                case Sighting.ARRIVED if not self.done:
                    self._tracker.stop_looking()
                    self._finish(Result.TAKEN, phrase("It has moved to {address}.", address=seen.address), seen.at)
                case Sighting.BACK:
                    self._note(phrase("It is at {address} again.", address=seen.address), seen.at)
                case Sighting.SECOND:
                    text = phrase(
                        "It shows {address} as well, which is a second address while {was} answers.",
                        address=seen.address,
                        was=self._tracker.was,
                    )
                    self._note(text, seen.at)
                case Sighting.GONE:
                    gone = "It no longer answers at {address}."
                    gone = gone if self._tracker.was_heard_before else "It does not answer at {address}."
                    self._note(phrase(gone, address=seen.address), seen.at)
                case Sighting.MOVED:
                    slip = "It moved to {address} instead of {target}: two digits or octets are swapped."
                    if not is_transposition(seen.address, target):
                        slip = "It moved to {address} instead of {target}."
                    self._note(phrase(slip, address=seen.address, target=target), seen.at)

    def handle_timer(self, now: float) -> None:
        """Ask for the new and the old address, and where slips land."""
        if self.done:
            return
        self._tracker.handle_timer(now)
        self._take_news()
        if self._tracker.answers_for_others and not self._said_proxy:
            self._said_proxy = True
            self._note(self._proxy_sentence(), now)

    def next_deadline(self) -> float | None:
        return None if self.done else self._tracker.next_deadline()
