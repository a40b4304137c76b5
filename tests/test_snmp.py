"""SNMP against an independent agent, which sets the kernel's address."""

import asyncio
import json
import os
import time
from ipaddress import IPv4Address, IPv4Interface

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from askport.bench import scenario
from askport.bench.agent import StandbySupply
from askport.bench.bench import Bench
from askport.bench.stand_in import Settings
from askport.core.addresses import MacAddress
from askport.core.errors import BadInput
from askport.core.finding.finder import Finder
from askport.core.plan.target import Target
from askport.core.ways import conversation, log_in, snmp_engine, snmp_way
from askport.core.ways import snmp_talk as snmp
from askport.core.ways.snmp_engine import Access, AgentTalk, Asks, SnmpAnswer
from askport.core.ways.snmp_way import ReadBySnmp
from askport.core.ways.start import Start
from askport.core.ways.way import Result
from askport.edges.driver import Driver
from conftest import DEVICE

CONFIG = """
agentaddress udp:161,udp6:161
rwcommunity orchard default
rwcommunity6 orchard default
rocommunity lookonly default
createUser plain
rwuser plain noauth
createUser tech SHA "long enough" AES "long enough"
rwuser tech priv
createUser old MD5 "long enough"
rwuser old auth
sysName hopper
"""
KIND = """
schema = "askport.kind/1"
name = "hopper"
[[way]]
by = "snmp"
"""
SET = ["assign", "zl0", "--to", "10.84.16.50/8", "--gateway", "10.84.19.254", "--by", "snmp", "--at", "192.168.61.7",
       "--mac", DEVICE, "--json"]  # fmt: skip
READ = ["settings", "zl0", "--mac", DEVICE, "--by", "snmp", "--at", "192.168.61.7", "--json"]
MIB2 = (1, 3, 6, 1, 2, 1)
NAME = (*MIB2, 1, 5, 0)


@pytest.fixture
def agent(cable, tmp_path):
    cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")
    cable.ip("link", "set", "lo", "up")
    cable.ip("route", "add", "default", "via", "192.168.61.1")
    (tmp_path / "conf").write_text(CONFIG)
    os.environ["SNMP_PERSISTENT_DIR"] = str(tmp_path / "state")
    cable.partner("snmpd", "-f", "-Lf", str(tmp_path / "log"), "-C", "-c", str(tmp_path / "conf"))
    listens = ("grep", "-q", ":00A1 ", "/proc/net/udp")
    for _ in range(100):
        if cable.start_in(cable.device, *listens).wait() == 0:
            break
        time.sleep(0.1)
    else:
        raise AssertionError((tmp_path / "log").read_text())

    def run(command, *more, password="long enough", kind=""):
        if kind:
            (tmp_path / "hopper.kind.toml").write_text(KIND + kind)
            more = (*more, "--kind", tmp_path / "hopper.kind.toml")
        done = cable.askport(*command, *more, "--password-from", "-", input=password + "\n")
        assert "Traceback" not in done.stderr
        assert password not in done.stdout + done.stderr
        return done

    return run


@pytest.mark.by_day(2)
@pytest.mark.parametrize(("kind", "user", "password"), [
    ("", [], "orchard"), ('version = "1"', [], "orchard"), ("", ["--user", "tech"], "long enough"),
    ('version = "3"\nauth = "md5"', ["--user", "old"], "long enough")], ids=["2c", "1", "3 sha aes", "3 md5"],
)  # fmt: skip
def test_an_agent_is_read_and_takes_an_address(cable, agent, kind, user, password):
    before = cable.adapter()
    run = agent(READ, *user, password=password, kind=kind)
    told = json.loads(run.stdout)
    assert (told["address"], told["prefix"], told["gateway"], told["dns"]) == (
        "192.168.61.7", 24, "192.168.61.1", [],
    ), run.stdout + run.stderr  # fmt: skip
    run = agent(SET, *user, password=password, kind=kind)
    document = json.loads(run.stdout)
    assert (document["result"], document["permanent"], run.returncode) == ("taken", False, 0), run.stdout + run.stderr
    assert document["because"] == "It is at 10.84.16.50. Mask not checked yet."
    assert any("whether it still has 192.168.61.7 too" in step["text"] for step in document["steps"])
    assert any(step["text"].startswith("“store it, to be kept”: it does not take that") for step in document["steps"])
    assert "10.84.16.50" in cable.ip("addr", "show", "zd0")
    assert "default via 10.84.19.254" in cable.ip("route")
    assert cable.adapter() == before


def test_an_agent_is_read_and_set_over_ipv6_whatever_its_address_is(cable, agent):
    """It names its own IPv4 address; nothing is borrowed to ask, and of loopback's address nothing is said."""
    cable.ip("addr", "flush", "dev", "zd0", "scope", "global")
    cable.ip("addr", "add", "203.0.113.7/29", "dev", "zd0")
    without = [each for each in READ if each not in ("--at", "192.168.61.7")]
    run = agent(without, "--over-ipv6", password="orchard")
    told = json.loads(run.stdout)
    assert (told["address"], told["prefix"], "Borrowed" in run.stderr) == ("203.0.113.7", 29, False), run
    without = [each for each in SET if each not in ("--at", "192.168.61.7")]
    document = json.loads(agent(without, "--over-ipv6", password="orchard").stdout)
    assert document["result"] == "taken", document
    assert "10.84.16.50" in cable.ip("addr", "show", "zd0")


@pytest.mark.by_day(1, 3)
@pytest.mark.parametrize(("kind", "user", "password", "why"), [
    ("", [], "nobody", "there is no agent, or it does not take this community"),
    ("", [], "lookonly", "this access does not let that be done (“add 10.84.16.50 to its addresses”)"),
    ("", ["--user", "tech"], "not that one", "it does not take the password, or wants another hash"),
    ("", ["--user", "who"], "long enough", "it knows no user of that name"),
    ('version = "3"\nauth = "sha"', ["--user", "tech"], "long enough", "this access does not let that be done"),
    ('version = "3"\nauth = "sha"\nprivacy = "des"', ["--user", "tech"], "long enough", "encrypted"),
])  # fmt: skip
def test_an_agent_that_will_not_is_quoted_and_nothing_is_set(cable, agent, kind, user, password, why):
    run = agent(SET, *user, password=password, kind=kind)
    document = json.loads(run.stdout)
    assert (document["result"] in ("refused", "no-answer"), run.returncode) == (True, 1), run.stdout
    assert why in document["because"]
    assert "10.84.16.50" not in cable.ip("addr", "show", "zd0")


@pytest.mark.parametrize(("gateway", "hidden", "says"), [
    ("192.168.96.1", (), "192.168.96.1"), (None, (), "none"), ("192.168.96.1", (*MIB2, 4, 24), None),
    ("192.168.96.1", (*MIB2, 1), "192.168.96.1"), (None, (*MIB2, 4, 24), None)])  # fmt: skip
def test_an_agent_that_hides_a_table_says_nothing_of_what_is_in_it(gateway, hidden, says):
    """No row seen is a gateway of none only where the table was seen."""

    class Agent(StandbySupply):
        def _values(self, at):
            shown = super()._values(at)
            return {name: value for name, value in shown.items() if not hidden or name[: len(hidden)] != hidden}

    bench = Bench(scenario.LAPTOP_MAC, laptop=(IPv4Interface("192.168.96.9/22"),))
    at = IPv4Interface("192.168.96.10/22")
    agent = Agent(MacAddress.parse("00:00:5e:00:53:2a"), Settings(at, IPv4Address(gateway) if gateway else None))
    bench.plug(agent)
    asyncio.run(Driver(Finder([bench.mac], now=0.0), bench).run(until=lambda: False, longest_until=6.0))
    start = Start(
        mac=agent.mac, target=Target(interface=at), laptop_mac=bench.mac, laptop=None, old=at.ip, now=bench.now(),
        xid=lambda: 7, ours=(IPv4Interface("192.168.96.9/22"),), log_in=log_in.LogIn("", "hatchery"),
    )  # fmt: skip
    talk = ReadBySnmp(start)
    asyncio.run(Driver(talk, bench).run(until=lambda: talk.done, longest_until=30.0))
    assert (talk.said.ended, talk.said.found.get("gateway")) == (conversation.Ended.WELL, says), talk.said


@pytest.mark.parametrize(("access", "lacks"), [
    (Access("2c"), "its community"), (Access("3"), "a user"), (Access("3", "tech", "short", "sha"), "at least 8"),
])  # fmt: skip
def test_what_is_missing_is_said_before_anything_is_sent(access, lacks):
    with pytest.raises(BadInput, match=lacks):
        AgentTalk(access)


def test_every_refusal_of_the_standard_has_its_sentence():
    assert sorted(snmp_engine.ERROR_STATUS) == list(range(1, 19))
    for sentence in (*snmp_engine.ERROR_STATUS.values(), *snmp_engine.INDICATIONS.values()):
        assert sentence[0].islower()
        assert not sentence.endswith(".")


@pytest.mark.by_day(0, 5, 11, 16)
@pytest.mark.parametrize("status", range(1, 19))
def test_a_refusal_is_said_in_its_words(status):
    talk = _asked("2c")
    talk.receive(_answer(talk, status, 1))
    assert talk.answer == SnmpAnswer(snmp_engine.ERROR_STATUS[status])


def _asked(version):
    talk = AgentTalk(Access(version, "tech", "long enough", *(("sha", "aes") if version == "3" else ())))
    talk.ask(Asks.GET, [(NAME, None)])
    return talk


def _answer(talk, status, index):
    """Return the question as an answer: of another type, with a status and an index."""
    from pyasn1.codec.ber import decoder, encoder
    from pysnmp.proto.api import v2c

    message, _ = decoder.decode(talk.message, asn1Spec=v2c.Message())
    request = v2c.apiMessage.get_pdu(message)
    answer = v2c.apiPDU.get_response(request)
    answer[1], answer[2] = status, index
    v2c.apiMessage.set_pdu(message, answer)
    return encoder.encode(message)


@pytest.mark.long
@settings(max_examples=12)  # its package reads its tables anew for every engine of version 3
@given(st.binary(max_size=90), st.sampled_from(["1", "2c", "3"]), st.integers(0, 60), st.integers(0, 255))
def test_whatever_comes_is_no_exception_and_no_answer_of_its_own(noise, version, place, byte):
    talk = _asked(version)
    talk.receive(noise)
    bent = bytearray(_answer(talk, 0, 0) if version == "2c" else talk.message)
    bent[place % len(bent)] = byte
    for each in (bytes(bent), bytes(bent[:place]), b"\x30\x80" * 700):
        talk.receive(each)
    assert talk.answer is None or isinstance(talk.answer, SnmpAnswer)


@pytest.mark.parametrize("took", [True, False])
def test_a_row_that_is_refused_the_second_time_is_looked_at_before_that_is_believed(took):
    """The answer to the first request was lost: the agent took it, or it is refused indeed."""

    class Loses(StandbySupply):
        rows, asked = {}, 0

        def _take(self, told, at):
            name = next((each for each in told if each[:-6] == (*snmp.IP_ADDRESS, snmp.ROW_STATUS)), None)
            if name is None:
                return super()._take(told, at)
            self.asked += 1
            if took:
                self.rows[name] = 1
            return 12  # inconsistentValue: it is there already, or cannot be

        def _values(self, at):
            return super()._values(at) | self.rows

        def _answer(self, payload, at):
            before, frames = self.asked, super()._answer(payload, at)
            return [] if before == 0 and self.asked == 1 else frames

    bench = Bench(scenario.LAPTOP_MAC, laptop=(IPv4Interface("192.168.96.9/22"),))
    at = IPv4Interface("192.168.96.10/22")
    agent = Loses(MacAddress.parse("00:00:5e:00:53:2a"), Settings(at, None))
    bench.plug(agent)
    asyncio.run(Driver(Finder([bench.mac], now=0.0), bench).run(until=lambda: False, longest_until=6.0))
    start = Start(
        mac=agent.mac, target=Target(interface=IPv4Interface("192.168.96.77/22")), laptop_mac=bench.mac, laptop=None,
        old=at.ip, now=bench.now(), xid=lambda: 7, ours=(IPv4Interface("192.168.96.9/22"),),
        log_in=log_in.LogIn("", "hatchery"),
    )  # fmt: skip
    talk = snmp.SnmpTalk(start, snmp_way._set_steps(start))
    asyncio.run(Driver(talk, bench).run(until=lambda: talk.done, longest_until=30.0))
    assert (agent.asked, talk.took("row")) == (2, took)
    assert talk.said.ended is (conversation.Ended.WELL if took else conversation.Ended.REFUSED), talk.said


def test_what_was_only_asked_is_not_said_to_be_taken():
    class Refuses(StandbySupply):
        def _take(self, told, at):
            return 6  # noAccess

    at = IPv4Interface("192.168.96.10/22")
    bench = Bench(scenario.LAPTOP_MAC, laptop=(IPv4Interface("192.168.96.9/22"),))
    agent = Refuses(MacAddress.parse("00:00:5e:00:53:2a"), Settings(at, None))
    bench.plug(agent)
    asyncio.run(Driver(Finder([bench.mac], now=0.0), bench).run(until=lambda: False, longest_until=6.0))
    ours = IPv4Interface("192.168.96.9/22")
    start = Start(
        mac=agent.mac, target=Target(interface=IPv4Interface("192.168.96.77/22")), laptop_mac=bench.mac, laptop=ours,
        old=at.ip, now=bench.now(), xid=lambda: 7, ours=(ours,), log_in=log_in.LogIn("", "hatchery"),
    )  # fmt: skip
    way = snmp_way.SetBySnmp(start)
    asyncio.run(Driver(way, bench).run(until=lambda: way.done, longest_until=60.0))
    assert (way.result, way.has_changed) == (Result.REFUSED, False), way.because
    assert "taken by then" not in way.because
