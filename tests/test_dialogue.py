"""A dialogue with consoles that are slow, chatty or hostile: bounded, cleaned, never matched across what was sent."""

from ipaddress import IPv4Address

import pytest

from askport.core.channels import CloseChannel, Closed, OpenChannel, Opened, Received, SendOn, TelnetPort
from askport.core.kinds.model import Line
from askport.core.ways.conversation import Ended
from askport.core.ways.dialogue import Dialogue

LINES = [Line(expect="> ", send="ip {address}"), Line(expect="> ", send="save", find=r"kept (?P<what>\S+)")]
LOG_IN = [Line(expect="login:", send="{user}"), Line(expect="word:", send="{password}")]
VALUES = {"address": "10.84.16.40", "user": "fitter", "password": "marked-secret"}


def talk(*answers, lines=LINES, refused=("error",), opens=True, until=100.0):
    """Run a dialogue; each answer comes when a line is sent (the first when it opens). Returns it and what was sent."""
    dialogue = Dialogue(TelnetPort(IPv4Address("10.0.0.9"), 23), lines, VALUES, refused=refused, now=0.0)
    pending, sent, now = list(answers), [], 0.0
    (opening,) = dialogue.poll()
    assert isinstance(opening, OpenChannel)
    channel = opening.channel

    def answer(at):
        given = pending.pop(0) if pending else b""
        for each in given if isinstance(given, list) else [given]:
            if each is None:
                dialogue.channel_event(Closed(channel, "connection reset by peer"), at)
            elif each:
                dialogue.channel_event(Received(channel, each), at)

    if opens:
        dialogue.channel_event(Opened(channel), 0.0)
        answer(0.1)
    else:
        dialogue.channel_event(Closed(channel, "connection refused"), 0.0)
    while not dialogue.done and now < until:
        effects = dialogue.poll()
        for effect in effects:
            if isinstance(effect, SendOn):
                sent.append(effect.data)
                answer(now + 0.1)
        if not effects:
            now = dialogue.next_deadline()
            dialogue.handle_timer(now)
    assert isinstance(dialogue.poll()[-1], CloseChannel)
    return dialogue, sent


@pytest.mark.parametrize(
    ("answers", "ended", "said", "sent"),
    [
        ([b"hello\r\n> ", b"ip 10.84.16.40\r\nok\r\n> ", b"save\r\nkept all\r\n> "], Ended.WELL, "", 2),
        ([b"", b"> ", b"ok\r\n> ", b"kept all\r\n> "], Ended.WELL, "", 3),  # says nothing until a key is pressed
        # What the empty line is answered with comes late, behind the first prompt: no refusal of the first line.
        ([b"", [b"> ", b"error: what is\r\n> "], b"ok\r\n> ", b"kept all\r\n> "], Ended.WELL, "", 3),
        ([b"> ", [b"ip 10.8", b"4.16.40\r\no", b"k\r\n>", b" "], b"kept all\r\n> "], Ended.WELL, "", 2),  # in pieces
        ([b"> ", b"ip 10.84.16.40\r\nERROR: no\r\n> "], Ended.REFUSED, "ERROR: no", 1),
        ([b"\x1b[2J\x1b]0;x\x07> ", b"\x1b[31mok\x1b[0m\r\n> ", b"kept all\r\n> "], Ended.WELL, "", 2),
        ([b"> ", b"ip 10.84.16.40\r\n"], Ended.SILENT, "did not come in 10 s", 1),  # its echo holds no prompt
        ([b"> ", b"ok\r\n> ", b"nothing\r\n> "], Ended.SILENT, "its answer has no", 2),
        ([b"> ", [b"x" * 20_000] * 5], Ended.TOO_MUCH, "more than 64 KB", 1),
        ([b"\xff\xfe\x80> ", b"\xff ok\r\n> ", b"kept \xff\r\n> "], Ended.WELL, "", 2),
        ([b"> ", [b"ok", None]], Ended.CLOSED, "connection reset", 1),
        ([b"> ", b"ok\r\n> ", [b"kept all\r\n> ", None]], Ended.WELL, "", 2),
        # A key there would stop its start: it is no page's end.
        ([b"Press any key to stop autoboot: 3", b""], Ended.SILENT, "did not come", 0),
        ([b"> ", *[b"page\r\n--More--"] * 300], Ended.TOO_MUCH, "more than 200 pages", 201),
    ],
)
def test_what_comes_is_bounded_cleaned_and_told(answers, ended, said, sent):
    dialogue, lines = talk(*answers)
    assert (dialogue.said.ended, len(lines)) == (ended, sent), dialogue.said
    assert said in dialogue.said.because
    assert dialogue.said.because.isprintable()


STORE = [Line(expect="> ", send="store"), Line(expect="[y/n]", send="y")]


@pytest.mark.parametrize(
    ("last", "ended"),
    [(b"y\r\nstored\r\n> ", Ended.WELL), (b"y\r\nstored\r\n", Ended.WELL), (b"y\r\nERROR: full\r\n> ", Ended.REFUSED),
     (b"", Ended.SILENT)],
)  # fmt: skip
def test_a_last_line_that_answers_a_question_ends_with_a_prompt_or_quiet(last, ended):
    dialogue, _ = talk(b"> ", b"store\r\nSure? [y/n]", last, lines=STORE)
    assert dialogue.said.ended is ended


def test_a_server_that_greets_late_gets_no_empty_line_for_a_name():
    dialogue = Dialogue(TelnetPort(IPv4Address("10.0.0.9"), 23), LOG_IN, VALUES, now=0.0)
    channel = dialogue.poll()[0].channel
    dialogue.channel_event(Opened(channel), 0.0)
    dialogue.handle_timer(8.0)
    assert dialogue.poll() == []
    dialogue.channel_event(Received(channel, b"login:"), 9.0)
    assert [each.data for each in dialogue.poll()] == [b"fitter\r"]


def test_no_connection_and_what_was_found():
    dialogue, sent = talk(opens=False)
    assert (dialogue.said.ended, dialogue.said.because, sent) == (Ended.UNREACHED, "connection refused", [])
    dialogue, _ = talk(b"> ", b"ok\r\n> ", b"kept all\r\n> ")
    assert dialogue.said.found == {"what": "all"}
    assert [each.acknowledged for each in dialogue.spoken] == [True, True]


def test_a_secret_is_sent_and_shown_nowhere():
    dialogue, sent = talk(
        b"login:", b"fitter\r\nPassword:", b"denied: marked-secret\r\n", lines=LOG_IN, refused=["denied"]
    )
    assert sent == [b"fitter\r", b"marked-secret\r"]
    assert (dialogue.said.ended, [each.text for each in dialogue.spoken]) == (Ended.REFUSED, ["fitter", "•••"])
    assert "marked-secret" not in repr(dialogue.said) + repr(dialogue.spoken)


def test_a_pattern_that_takes_for_ever_is_ended():
    lines = [Line(expect="> ", send="show", find=r"(a+)+$")]
    dialogue, _ = talk(b"> ", b"a" * 5000 + b"b\r\n> ", lines=lines)
    assert (dialogue.said.ended, dialogue.said.found) == (Ended.SILENT, {})
