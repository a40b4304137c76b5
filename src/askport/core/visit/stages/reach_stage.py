"""Reach: the laptop gets an address from which it can talk to the device, and sees what that answers."""

from collections.abc import Sequence
from ipaddress import IPv4Address, IPv4Interface

from askport.core import errors, machine
from askport.core.finding.asking_modbus import AskingModbus
from askport.core.finding.first_words import FirstWords
from askport.core.finding.greeting import ask_for_numbers
from askport.core.formats.modbus import PORT_MODBUS
from askport.core.kinds.recognising import wants_first_words
from askport.core.phrases import phrase, together
from askport.core.proofs import page_answers, proof, who_holds
from askport.core.proofs.reachable import Echo, PortOpens
from askport.core.reach.free_address import FreeAddressSearch
from askport.core.reach.over_ipv6 import OverIpv6
from askport.core.reach.whom_it_answers import WhomItAnswers
from askport.core.register.writing import identified
from askport.core.visit import steps, transitions
from askport.core.visit.stages.stage import Next, Stage


class Reach(Stage):
    """Borrows, pins, and asks what is there."""

    step = steps.Step.REACH

    def begin(self, address: IPv4Address, prefix: int | None, now: float) -> None:
        """Reach an address of the device: at once, or after an address is borrowed."""
        if self._visit.cable.laptop.reaching(address):
            self._see(now)
        else:
            self._stages.access.look_beside(address, prefix, now)

    def enter(self, now: float) -> None:
        """Borrow what is offered."""
        visit = self._visit
        if visit.phase is steps.Phase.MAY_BORROW and visit.free_address is None and visit.door:
            self.over_ipv6(now)
        elif visit.phase is steps.Phase.MAY_BORROW:
            self._stages.access.borrow(transitions.Event.BORROWS, now)

    def over_ipv6(self, now: float) -> None:
        """Go on over IPv6, with nothing borrowed: see what it answers there, unless that is known."""
        if asks := self._visit.ask_over_ipv6(now):
            self._visit.go(transitions.Event.TRIES_PORTS, *asks)
        else:
            self._introduce(now)

    def borrowed(self, now: float) -> None:
        """See what the device answers there."""
        if self._visit.phase is steps.Phase.BORROWING:
            self._see(now)

    def offer_another(self, now: float) -> None:
        """Look for another address beside the device."""
        if there := self._visit.device.whereabouts:
            self._stages.access.look_beside(there, None, now)

    def _see(self, now: float) -> None:
        """See what the device answers as it was found, so that the same is asked of it in the end."""
        visit, cable, device = self._visit, self._visit.cable, self._visit.device
        address, chosen = device.whereabouts, device.chosen
        laptop = cable.laptop.reaching(address) if address else None
        if address is None or chosen is None or laptop is None:
            self._go_on(now)
            return
        visit.reached_from = laptop
        if beside := cable.laptop.beside_in_use:
            adapter = cable.laptop.macs[0]
            asked = WhomItAnswers(chosen.mac, address, beside=beside, adapter=adapter, laptop=laptop.ip, now=now)
            visit.go(transitions.Event.TRIES_PORTS, asked)
        else:
            self._try_ports(now)

    def _try_ports(self, now: float) -> None:
        visit, cable, device = self._visit, self._visit.cable, self._visit.device
        address, chosen, laptop = device.whereabouts, device.chosen, visit.reached_from
        if address is None or chosen is None or laptop is None:
            return
        # Of twins, and of whoever comes after one at the same address, the kernel must reach this one and no other. One
        # that is meant by its MAC address was asked at that alone, and may have twins that nobody has heard.
        pinned = cable.laptop.pinned
        is_named = cable.search.label_mac == chosen.mac
        if is_named or len(cable.search.twins(chosen)) > 1 or pinned.get(address, chosen.mac) != chosen.mac:
            pinned[address] = chosen.mac
            visit.effects.append(machine.Pin(address, chosen.mac))
        at = IPv4Interface((address, laptop.network.prefixlen))
        subject = proof.Subject(mac=chosen.mac, at=at, laptop_mac=cable.laptop.mac, laptop=laptop)
        asked: list[proof.Proof] = []
        if device.errand is None:
            asked = [Echo(subject, now=now), *(PortOpens(subject, port, now=now) for port in visit.usual_ports)]
            visit.effects += [machine.Send(each) for each in ask_for_numbers(subject.ends, now)]
        visit.go(transitions.Event.TRIES_PORTS, proof.Proving([who_holds.StillThere(subject, now=now), *asked]))

    def ended(self, ran: Sequence[machine.Machine], now: float) -> None:
        """Offer the address that is free, or go on to setting the device, if it is there."""
        visit, access = self._visit, self._stages.access
        match visit.phase, ran[0]:
            case steps.Phase.CHOOSING, FreeAddressSearch() as choosing:
                access.take_free(choosing.chosen, now)
                visit.go(transitions.Event.OFFERED)
            case steps.Phase.BORROWING, FreeAddressSearch() as choosing:
                if access.asked_again(choosing, now) and visit.device.whereabouts:
                    access.look_beside(visit.device.whereabouts, None, now)
            case steps.Phase.TRYING_PORTS, WhomItAnswers() as asked:
                if asked.adapter_only and visit.reached_from:
                    self._stages.access.borrow_on_adapter(visit.reached_from)
                else:
                    self._try_ports(now)
            case steps.Phase.TRYING_PORTS, OverIpv6(address=address):
                if address:
                    self._introduce(now)
                else:
                    self._stages.look_again()
                    visit.trouble = visit.trouble or errors.Refused(
                        "It does not answer over IPv6. Look again for who is there."
                    )
            case steps.Phase.TRYING_PORTS, proof.Proving() as trying:
                there, *visit.device.ports_tried = trying.proofs
                if there.passed or any(each.passed for each in visit.device.ports_tried):
                    self._introduce(now)
                elif visit.device.errand and visit.way and visit.way.by_technician:  # nothing is told to anybody
                    visit.trouble, visit.reached_from = errors.Refused(there.because), None
                    self._go_on(now)
                else:  # nothing is set on whoever else may be at its address
                    self._stages.look_again()
                    again = "" if visit.device.errand else phrase("Look again for who is there.")
                    visit.trouble = errors.Refused(together(there.because, again))
            case steps.Phase.TRYING_PORTS, _:
                self._introduced(ran)
                self._go_on(now)

    def _introduce(self, now: float) -> None:
        """Hear its first words where only they can tell of which kind it is, and its identification by Modbus/TCP."""
        visit, device = self._visit, self._visit.device
        kinds, at, there = visit.cable.around.kinds, visit.door or device.whereabouts, device.whereabouts
        asking: list[FirstWords | AskingModbus] = []
        if device.errand:
            self._go_on(now)
            return
        if device.chosen and at and wants_first_words(kinds, device.chosen, ports=device.open_ports):
            asking.append(FirstWords(at, device.open_ports, now=now))
        if there and not visit.door and PORT_MODBUS in device.open_ports:
            asking.append(AskingModbus(there, now=now))
        asking = [each for each in asking if not each.done]
        if asking:
            visit.go(transitions.Event.TRIES_PORTS, *asking)
        else:
            self._go_on(now)

    def _introduced(self, ran: Sequence[machine.Machine]) -> None:
        device = self._visit.device
        for each in ran:
            if isinstance(each, FirstWords):
                device.first_words, device.title = each.heard, each.title
            elif isinstance(each, AskingModbus) and each.identity:
                device.identities = (each.identity,)

    def _go_on(self, now: float) -> None:
        """Note by what it is known, and go on to setting it."""
        visit, device = self._visit, self._visit.device
        visit.see_kind()
        known = device.chosen.identities if device.chosen else ()
        if device.chosen and known and known != device.noted_identities:
            device.noted_identities = known
            visit.write(identified(known, unit=device.unit, mac=device.chosen.mac))
        self._stages.setting.prepare(now)

    def next(self, now: float) -> Next:
        """Say what is borrowed, and what for."""
        visit, device = self._visit, self._visit.device
        match visit.phase:
            case steps.Phase.CHOOSING:
                return Next(phrase("Looking for a free address for the laptop."))
            case steps.Phase.MAY_BORROW if visit.door and visit.free_address is None:
                return Next(
                    phrase("No free laptop address found next to it."),
                    phrase("Continue over IPv6, at {door}.", door=visit.door),
                )
            case steps.Phase.MAY_BORROW if visit.free_address and device.landed_at and device.way:
                return Next(
                    device.way.because,
                    phrase("Borrow {free_address} to reach it there and correct it.", free_address=visit.free_address),
                )
            case steps.Phase.MAY_BORROW if visit.free_address:
                where = visit.cable.laptop.where
                text = phrase(
                    "Borrow {free_address} {where} for the laptop: nobody answers there.",
                    free_address=visit.free_address,
                    where=where,
                )
                return Next(self._page_over_ipv6, text)
            case steps.Phase.MAY_BORROW:
                return Next(phrase("No free address found for the laptop. Press a and type one."))
            case steps.Phase.TRYING_PORTS if any(isinstance(each, FirstWords | AskingModbus) for each in visit.running):
                return Next(phrase("Reading the device's console banner, web page title and identification."))
            case steps.Phase.TRYING_PORTS:
                return Next(phrase("Testing ping and common ports at the device's current address."))
        return Next(phrase("Borrowing the address."))

    @property
    def _page_over_ipv6(self) -> str:
        """Offer its page where that opens with nothing borrowed."""
        over = self._visit.device.over_ipv6
        opens = over is not None and any(port in page_answers.PAGE_PORTS for port in over.opened)
        return phrase("Its page answers over IPv6: press o to open it.") if opens else ""

    def result(self) -> str:
        """Say from where it is reached."""
        visit = self._visit
        if visit.device.chosen is None:
            return ""
        if visit.device.over_ipv6 and visit.device.whereabouts is None:
            return phrase("over IPv6")
        if visit.device.whereabouts is None:
            return phrase("nothing to reach")
        if visit.reached_from and visit.phase.step is not steps.Step.REACH:
            return phrase("from {ip}", ip=visit.reached_from.ip)
        return phrase("borrow an address")
