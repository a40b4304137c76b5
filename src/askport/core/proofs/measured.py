"""Proofs that its mask and its gateway are as planned, measured from outside."""

from collections.abc import Callable, Collection
from ipaddress import IPv4Address, IPv4Network

from askport.core.finding import beliefs, measuring
from askport.core.phrases import phrase, together
from askport.core.proofs.proof import Proof, Subject
from askport.core.proofs.reachable import Echo, PortOpens
from askport.core.proofs.who_holds import SameMac
from askport.core.wire import Heard, Link


class MaskAsPlanned(Proof):
    """Its subnet ends where it is meant to; measuring finds its gateway too."""

    name = "mask"

    def __init__(
        self,
        subject: Subject,
        *,
        gateway: IPv4Address | None = None,
        avoid: Collection[IPv4Address] = (),
        explains: Collection[Proof] = (),
        asked_from: set[IPv4Address] | None = None,
        seed: int = 0,
    ) -> None:
        """Wait to begin, until the wire is quiet.

        Args:
            gateway: the planned one, which a wrong mask may keep it from finding.
            avoid: addresses of others, which are no sources of questions.
            explains: proofs that stay silent where its mask makes a stranger of the laptop, and that of its presence.
            asked_from: where the sources of questions are put, for those who listen.
        """
        super().__init__()
        self.subject, self.gateway = subject, gateway
        self.expected = phrase("subnet mask /{prefixlen}", prefixlen=subject.at.network.prefixlen)
        self._avoid, self._explains = {*avoid, *([gateway] if gateway else [])}, list(explains)
        self._measuring: measuring.Measuring | None = None
        self._asked_from, self._seed = asked_from, seed

    @property
    def result(self) -> beliefs.Measurement | None:
        """What was measured."""
        return self._measuring.result if self._measuring else None

    def begin(self, now: float) -> None:
        """Measure from now on."""
        subject = self.subject
        self._measuring = measuring.Measuring(
            subject.laptop_mac, subject.mac, subject.at.ip, now=now, avoid=self._avoid, ours=[subject.laptop.ip],
            asked_from=self._asked_from, seed=self._seed, laptop_macs=subject.laptop_macs,
        )  # fmt: skip

    def receive(self, heard: Heard) -> None:
        if self._measuring:
            self._measuring.receive(heard)
        self._conclude()

    def link_changed(self, link: Link, now: float) -> None:
        if self._measuring:
            self._measuring.link_changed(link, now)
        self._conclude()

    def handle_timer(self, now: float) -> None:
        if self._measuring:
            self._measuring.handle_timer(now)
        self._conclude()

    def next_deadline(self) -> float | None:
        return self._measuring.next_deadline() if self._measuring and not self.done else None

    @property
    def children(self) -> list[measuring.Measuring]:
        return [self._measuring] if self._measuring else []

    def _conclude(self) -> None:
        result, planned = self.result, self.subject.at.network.prefixlen
        if self.done or result is None:
            return
        if result.prefix is not None and result.questions:
            for proof in self._explains:
                if isinstance(proof, SameMac):
                    proof.answered_beside()
        if result.prefix is None:
            self.cannot_be_made(result.because)
        elif result.prefix == planned:
            self._end(True, f"/{planned}", phrase("Its mask was measured from outside: /{planned}.", planned=planned))
        else:
            self._end(False, f"/{result.prefix}", self._difference(result.prefix, planned))
            self._explain(result.prefix)

    def _difference(self, prefix: int, planned: int) -> str:
        lost = self.gateway is not None and self.gateway not in self._network(prefix)
        so = (
            phrase("it will not find {gateway}", gateway=self.gateway)
            if lost
            else phrase("it will treat local devices as remote, or remote ones as local")
        )
        return phrase("Its mask is /{prefix}, planned /{planned}: {so}.", prefix=prefix, planned=planned, so=so)

    def _network(self, prefix: int) -> IPv4Network:
        return IPv4Network((int(self.subject.at.ip), prefix), strict=False)

    def _explain(self, prefix: int) -> None:
        """Take silence for what it is, where its mask makes a stranger of the laptop."""
        if self.subject.laptop.ip in self._network(prefix):
            return
        for proof in self._explains:
            if isinstance(proof, Echo | PortOpens) and proof.passed is False and proof.ran_out:
                own = self.subject.laptop.ip
                proof.cannot_be_made(
                    phrase(
                        "With mask /{prefix} the laptop's {own} is outside its subnet: it need not answer.",
                        prefix=prefix,
                        own=own,
                    )
                )


class GatewayAsPlanned(Proof):
    """It sends what is for elsewhere to the gateway that it is meant to."""

    name = "gateway"

    def __init__(
        self,
        mask: MaskAsPlanned,
        planned: IPv4Address | None,
        heard: Callable[[], IPv4Address | None] = lambda: None,
    ) -> None:
        """Judge by what the mask's proof measures.

        Args:
            planned: its gateway, or None where it is to have none.
            heard: tells whom the device keeps looking for by itself, where it does.
        """
        super().__init__()
        self._mask, self.planned, self._heard = mask, planned, heard
        self.expected = (
            phrase("default gateway {planned}", planned=planned) if planned else phrase("no default gateway")
        )

    def receive(self, heard: Heard) -> None:
        self._conclude()

    def link_changed(self, link: Link, now: float) -> None:
        self._conclude()

    def handle_timer(self, now: float) -> None:
        self._conclude()

    def _conclude(self) -> None:
        result, planned, at = self._mask.result, self.planned, self._mask.subject.at.ip
        if self.done or result is None:
            return
        sought = self._heard()
        looks = phrase("It looks for {sought} by itself, as it may for any server.", sought=sought) if sought else ""
        if result.prefix is None:
            self.cannot_be_made(together(phrase("Its gateway cannot be measured where its mask cannot."), looks))
        elif result.gateway:
            passed = result.gateway == planned
            text = (
                "Its gateway is {gateway}: it sends there what is for addresses outside its subnet."
                if passed
                else "Its gateway is {gateway}, planned {planned}: it sends there what is for addresses outside its "
                "subnet."
            )
            self._end(
                passed, str(result.gateway), phrase(text, gateway=result.gateway, planned=planned or phrase("none"))
            )
        elif result.gateways:
            because = phrase(
                "{why_no_gateway}, planned {planned}.",
                why_no_gateway=result.why_no_gateway[:-1],
                planned=planned or phrase("none"),
            )
            self._end(False, " and ".join(map(str, result.gateways)), because)
        elif planned == at:
            self.cannot_be_made(phrase("Its own address as gateway looks the same from outside as no gateway."))
        elif planned and planned not in IPv4Network((int(at), result.prefix), strict=False):
            because = phrase(
                "With its mask /{prefix} it cannot reach {planned}.", prefix=result.prefix, planned=planned
            )
            self._end(False, phrase("none within /{prefix}", prefix=result.prefix), because)
        else:
            self.cannot_be_made(together(result.why_no_gateway, looks))
