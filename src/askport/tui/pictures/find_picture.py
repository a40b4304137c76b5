"""Find: what the device said over time, and what that adds up to."""

from askport.core.finding import beliefs, clues, loudness
from askport.core.finding.device import Device, device_words
from askport.core.finding.label import unheard_label
from askport.core.phrases import phrase
from askport.core.text import span_words
from askport.core.visit.session import Session
from askport.tui.ink import DIM, OURS, STRONG, THEIRS, Ink, beside, blank, broken, heading, line, warning, wrapped

_LABEL = 34
_SPANS_S = (20, 40, 60, 120, 300, 600, 1800, 3600)
_MAX_LANES = 8
_MOST_BESIDE = 5
"""Sentences shown beside those about addresses; all of them stand behind the key for frames."""

_MOST_SHORT = 9
"""Devices shown at once."""


def find_lines(session: Session, width: int, now: float) -> list[Ink]:
    """Draw the lanes over how loud the laptop is, and the candidates."""
    devices = session.cable.search.devices()
    if session.device.chosen and all(each.mac != session.device.chosen.mac for each in devices):
        devices.insert(0, session.device.chosen)
    lines = [*_lanes(session, width, now), blank()]
    if session.device.chosen is None or session.cable.finder.measuring:
        lines += [*_ladder(session, width), blank()]
    hazards = [*session.cable.finder.hazards(), *session.cable.laptop.hazards]
    for hazard in hazards:
        lines += warning(hazard.text, width)
    if hazards:
        lines.append(blank())
    label = session.cable.search.label_mac if session.device.chosen is None else None
    if text := unheard_label(label, [each.mac for each in devices]):
        lines += [*wrapped(text, width, STRONG), blank()]
    if not devices:
        lines += _silence(session, width, now)
    pointed = session.device.chosen or session.cable.search.candidate
    at = next((place for place, each in enumerate(devices) if pointed and each.mac == pointed.mac), 0)
    top = max(0, min(at - _MOST_SHORT // 2, len(devices) - _MOST_SHORT))
    for device in devices[top : top + _MOST_SHORT]:
        is_pointed = pointed is not None and pointed.mac == device.mac
        lines += _candidate(session, device, width) if is_pointed else [_short(session, device, width)]
    left_out = len(devices) - _MOST_SHORT
    if left_out > 0:
        lines.append(line(phrase("{left_out} more. Use ↑ ↓ to see them.", left_out=left_out), DIM, 2))
    return lines


def _ladder(session: Session, width: int) -> list[Ink]:
    """Draw how much the laptop sends, and how far it is with it."""
    finder = session.cable.finder
    ink = Ink().put(phrase("the laptop"), OURS).to(14)
    for rung in loudness.Loudness:
        here = rung is finder.loudness
        reached = finder.loudness.allows(rung)
        ink.put("◆ " if here else "● " if reached else "○ ", OURS if reached else DIM)
        ink.put(phrase(rung), f"{STRONG} {OURS}" if here else DIM).put("   ")
    measuring = finder.measuring
    says = (
        phrase("measuring mask and gateway, question {questions}", questions=measuring.questions)
        if measuring
        else finder.loudness.says
    )
    lines = [ink.put(says, DIM) if ink.width + len(says) <= width else ink]
    sweeping, calling = finder.sweeping, finder.calling
    if sweeping and not sweeping.done:
        text = phrase(
            "at {at}, {left_s} left at {rate:,.0f} a second, held"
            if sweeping.is_paused
            else "at {at}, {left_s} left at {rate:,.0f} a second",
            at=sweeping.at,
            left_s=span_words(sweeping.left_s),
            rate=sweeping.rate,
        )
        lines.append(_progress(sweeping.asked, sweeping.total, text, width))
    elif calling and not calling.done:
        lines.append(
            _progress(
                calling.asked,
                calling.total,
                phrase("{asked} of {total} questions", asked=calling.asked, total=calling.total),
                width,
            )
        )
    return lines


def _progress(asked: int, total: int, text: str, width: int) -> Ink:
    room = max(6, min(60, width - 14 - len(text) - 3))
    done = room * asked // total if total else room
    return Ink().to(14).put("▬" * done, OURS).put("▭" * (room - done), DIM).put(f"  {text}", DIM)


def _short(session: Session, device: Device, width: int) -> Ink:
    """Draw a device that is not pointed at in one line."""
    ink = Ink().put("  ").put(device.mac, THEIRS).to(22)
    best = device.best
    if device.request:
        ink.put(phrase("asks by {protocol}", protocol=device.request.protocol.upper())).to(40)
    elif best:
        ink.put(best.address).to(40).put(best.belief.words, STRONG if best.belief is clues.Belief.CERTAIN else DIM)
    else:
        ink.put(phrase("no address"), DIM)
    return ink.to(50).put(device_words(device, session.cable.around.maker(device.mac))[: max(10, width - 50)], DIM)


def _lanes(session: Session, width: int, now: float) -> list[Ink]:
    start = session.cable.link.since if session.cable.link.up else session.cable.began_at
    start = max(start, session.cable.began_at)
    span = next((each for each in _SPANS_S if now - start <= each), 3600)
    start = max(start, now - span)
    moments: dict[str, list[tuple[float, clues.Clue]]] = {}
    device = session.device.chosen or session.cable.search.candidate
    live = session.cable.finder.device(device.mac) if device else None
    for at, clue in (live or device).moments if device and (live or device) else ():
        text = phrase(clue.kind.lane, address=clue.address, about=clue.about, text=clue.text, port=clue.port)
        moments.setdefault(text, []).append((at, clue))
    label = max([_LABEL, *(min(width // 2, len(text) + 8) for text in list(moments)[:_MAX_LANES])])
    room = width - label
    scale = Ink().put(phrase("since the link came up"), STRONG).to(label)
    for part in range(4):
        scale.to(label + part * room // 4).put(span_words(span * part / 4), DIM)
    here = max(0, min(room - 1, int((now - start) / span * room)))
    lines = [scale, _axis(label, room, here)]
    for text, happened in list(moments.items())[:_MAX_LANES]:
        lines += [_lane(text, label, [at for at, _ in happened], start, span, room, here), blank()]
    if not moments:
        lines.append(Ink().put(phrase("nothing heard"), DIM))
    return lines


def _axis(label: int, room: int, here: int) -> Ink:
    """Draw the time that has passed as a firm line, and what is ahead as dots."""
    ink = Ink().to(label)
    return ink.put("─" * here, DIM).put("┤", STRONG).put("·" * max(0, room - here - 1), DIM)


def _lane(text: str, label: int, times: list[float], start: float, span: float, room: int, here: int) -> Ink:
    counts = [0] * room
    for at in times:
        place = int((at - start) / span * room)
        if 0 <= place < room:
            counts[place] += 1
    ink = Ink().put(text[: label - 7]).to(label - 6).put(f"{len(times)}×".rjust(4), DIM).to(label)
    for place, count in enumerate(counts):
        ink.put("▎▌▊█"[min(count, 4) - 1] if count else "·" if place <= here else " ", THEIRS if count else DIM)
    return ink


def _silence(session: Session, width: int, now: float) -> list[Ink]:
    since = max(session.cable.link.since, session.cable.began_at)
    lines = [blank(), heading(phrase("No device heard yet"), width), blank()]
    if not session.cable.link.up:
        return [
            *lines,
            *wrapped(phrase("There is no link: the cable is not in, or the device has no power."), width, "", 2),
        ]
    lines += wrapped(
        phrase("Listening for {now} on {adapter}.", now=span_words(now - since), adapter=session.cable.laptop.adapter),
        width,
        "",
        2,
    )
    lines.append(blank())
    hints = (
        phrase("Pull the device's power and plug it in again: most devices say their address in the first seconds."),
        phrase("If you know its address (label, display, manual), press a and type it. Ask Port keeps trying it."),
        phrase("A silent device still answers if you try its own address."),
    )
    for hint in hints:
        lines += wrapped(f"· {hint}", width - 4, DIM, 2)
    return lines


def _candidate(session: Session, device: Device, width: int) -> list[Ink]:
    title = Ink().put("▸ ", STRONG).put(device.mac, f"{STRONG} {THEIRS}").put("  ")
    title.put(device_words(device, session.cable.around.maker(device.mac)), THEIRS)
    lines = [title.put(" ").to(width, "┈", DIM)]
    if device.request:
        asking = device.request
        text = (
            phrase("It asked {requests} times", requests=asking.requests)
            if asking.requests > 1
            else phrase("It asked once")
        )
        head = Ink().to(4).put(phrase("no address"), STRONG).to(24).put(phrase("asks"), THEIRS).to(32)
        lines += beside(
            head, 34, phrase("{text} for an address by {protocol}.", text=text, protocol=asking.protocol.upper()), width
        )
    for belief in device.addresses[:3]:
        lines += _belief(belief, width)
    if not device.addresses and not device.request:
        lines.append(line(phrase("Traffic seen, but no IPv4 address in it."), DIM, 4))
    lines += [part for reason in device.others[:_MOST_BESIDE] for part in wrapped(reason.sentence, width, DIM, 34)]
    return [*lines, blank()]


def _belief(belief: beliefs.AddressBelief, width: int) -> list[Ink]:
    prefix = f"/{belief.prefix}" if belief.prefix is not None else ""
    sure = {3: STRONG, 2: "", 1: DIM}[belief.belief]
    sentences = [reason.sentence for reason in belief.because[:4]]
    if belief.prefix_basis == "bounded" and belief.prefix_range:
        shortest, longest = belief.prefix_range
        sentences.append(
            phrase(
                "Prefix length between /{shortest} and /{longest}, judging by the addresses it contacts directly.",
                shortest=shortest,
                longest=longest,
            )
        )
    if belief.gateway and belief.gateway_basis == "heard":
        sentences.append(
            phrase("It keeps looking for {gateway}, as devices do for their gateway.", gateway=belief.gateway)
        )
    reasons = [part for sentence in sentences for part in broken(sentence, width - 34)]
    lines = []
    for place, reason in enumerate(reasons):
        ink = Ink()
        if place == 0:
            ink.to(4).put(f"{belief.address}{prefix}", f"{sure} {THEIRS}").to(24).put(belief.belief.words, sure)
        ink.to(34)
        lines.append(ink.put(reason))
    return lines
