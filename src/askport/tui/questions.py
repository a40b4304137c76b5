"""The questions about the device at hand, its plan and the laptop."""

from collections.abc import Callable
from ipaddress import IPv4Interface

from askport.core import addresses, errors, text
from askport.core.phrases import phrase
from askport.core.plan.sentence import read_target, write_target
from askport.core.plan.target import check_target
from askport.core.plan.working_order import clean_tag
from askport.core.register.about import HEADS, told_line
from askport.core.visit.session import Session
from askport.edges.transports.serial_line import serial_lines
from askport.tui.question import Question


def ask_device_address(delivered: IPv4Interface | None, rate: float) -> Question:
    """Ask for the address that the technician knows of, or believes, or for a range to sweep at a rate."""

    def check(typed: str) -> str:
        if "/" not in typed:
            return phrase("Ask for {typed} until it answers.", typed=addresses.parse_address(typed))
        within = addresses.parse_network(typed)
        lasts = text.span_words(within.num_addresses / rate)
        return phrase(
            "Sweep {within}: {num_addresses:,} addresses, {lasts} at {rate:,.0f} a second.",
            within=within,
            num_addresses=within.num_addresses,
            lasts=lasts,
            rate=rate,
        )

    return Question(
        phrase("Device address (from label, display or manual), or a range to sweep, such as 172.16.0.0/12:"),
        str(delivered.ip) if delivered else "",
        check,
        lambda session, now, typed: session.cable.search.ask_for(typed, now),
    )


def ask_laptop_address(session: Session) -> Question:
    """Ask for another laptop address than the one offered."""
    return Question(
        phrase("Which address is the laptop to borrow instead?"),
        str(session.visit.free_address or ""),
        lambda typed: phrase(
            "Ask whether {interface} is free.", interface=addresses.parse_interface(typed, "laptop address")
        ),
        lambda session, now, typed: session.stages.access.name_other(typed, now),
    )


def ask_label(session: Session) -> Question:
    """Compare the MAC address on a label with what is on the wire, while it is typed."""

    def check(typed: str) -> str:
        matches = session.cable.search.match_label(typed)
        waits = phrase("No device heard yet. A complete MAC address is remembered and used when it appears.")
        return "\n".join(matches[0].aligned) if matches else waits

    return Question(
        phrase("Which MAC address does its label give? All of it, or the last digits; a barcode reader may type it."),
        "",
        check,
        lambda session, _, typed: session.cable.search.label(typed),
    )


def ask_plan(session: Session) -> Question:
    """Ask what the device is to become."""

    def check(typed: str) -> str:
        target = read_target(typed)
        for each in check_target(target, session.cable.around.site_of(target.interface.ip)):
            if not each.passed:
                raise errors.BadInput(each.sentence)
        return phrase("All values are valid.")

    return Question(
        phrase("What are the new settings of {tag}?", tag=session.device.work.tag),
        write_target(session.device.target) if session.device.target else "",
        check,
        lambda session, now, typed: session.stages.setting.plan(read_target(typed), now),
    )


def ask_log_in(kind: str) -> Question:
    """Ask for the log-in of a kind, for as long as the program runs."""
    return ask_name_and_password(
        phrase("What is the log-in name for devices of the kind {kind}?", kind=kind),
        lambda session, now, user, password: session.stages.setting.log_in(user, password, now),
    )


def ask_community(kind: str) -> Question:
    """Ask for the community of the SNMP agents of a kind, for as long as the program runs."""
    return Question(
        phrase("What is the SNMP community for devices of the kind {kind}? It is never stored.", kind=kind),
        "",
        lambda _typed: phrase("Enter accepts."),
        lambda session, now, typed: session.stages.setting.log_in("", typed, now),
        secret=True,
    )


def ask_name_and_password(sentence: str, use: Callable[[Session, float, str, str], object]) -> Question:
    """Ask for a name and then for a password; ``use`` takes both, with the session and the time."""

    def take(session: Session, now: float, user: str, password: str) -> None:
        use(session, now, user, password)

    return Question(
        sentence,
        "",
        lambda typed: phrase("Log in as {typed}; the password is asked for next.", typed=typed),
        lambda _session, _now, _typed: None,
        then=lambda user: Question(
            phrase("And the password of {user}? It is never stored.", user=user),
            "",
            lambda _typed: phrase("Enter accepts."),
            lambda session, now, typed: take(session, now, user, typed),
            secret=True,
        ),
    )


def ask_serial_line(kind: str) -> Question:
    """Ask on which of the laptop's serial lines the consoles of a kind are."""
    lines = serial_lines()
    there = "; ".join(f"{path}, {what}" for path, what in lines) or phrase("none is plugged in now")
    return Question(
        phrase("On which serial line is the console of the kind {kind}? Here: {there}.", kind=kind, there=there),
        lines[0][0] if lines else "",
        lambda typed: phrase("Use the serial line {typed}.", typed=typed),
        lambda session, now, typed: session.stages.setting.serial_line(typed.strip(), now),
        replaces=True,
    )


def ask_tag(session: Session) -> Question:
    """Ask for the tag of the device at hand; one that is planned brings its row."""
    work, around = session.device.work, session.cable.around

    def check(typed: str) -> str:
        tag = clean_tag(typed)
        row = around.row_of(tag)
        if row and row.tag != work.tag:
            said = "{tag} is planned: this device becomes {tag}, with all that is planned for it to {interface}."
            said = (
                said if row.target else "{tag} is planned: this device becomes {tag}, with all that is planned for it."
            )
            return phrase(said, tag=row.tag, interface=row.target and row.target.interface)
        if tag == work.tag or work.planned is None:
            return phrase("Its tag is {tag}.", tag=tag)
        return phrase(
            "No {tag} is planned: {work_tag} is called {tag} from now on, and keeps its values.",
            tag=tag,
            work_tag=work.tag,
        )

    return Question(
        phrase("Tag of this device (as marked at its location):"),
        work.tag,
        check,
        lambda session, now, typed: session.stages.name(typed, now),
        replaces=True,
    )


def ask_about(use: Callable[[dict[str, str]], object]) -> Question:
    """Ask for what stands on the handover's cover, one after the other; each may be left empty."""
    names = list(HEADS)

    def of(place: int, told: dict[str, str]) -> Question:
        name, is_last = names[place], place + 1 == len(names)

        def with_it(typed: str) -> dict[str, str]:
            return told | {name: told_line(name, typed)}

        def check(typed: str) -> str:
            with_it(typed)
            return phrase("Enter accepts; 'askport job set' changes it later.")

        def take(_session: Session, _now: float, typed: str) -> None:
            if is_last:
                use(with_it(typed))

        sentence = phrase(
            "For the handover's cover, {place} of {count}: {heads}? Enter leaves it open.",
            place=place + 1,
            count=len(names),
            heads=HEADS[name].lower(),
        )
        return Question(
            sentence, "", check, take, then=None if is_last else lambda typed: of(place + 1, with_it(typed))
        )

    return of(0, {})
