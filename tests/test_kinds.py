"""Kind files: every mistake in one sentence with line and remedy, placeholders, and who is recognised."""

import json
import os
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface

import pytest

from askport.core import addresses, errors
from askport.core.finding.clues import Identity
from askport.core.finding.finder import Finder
from askport.core.formats.arp import arp_question
from askport.core.formats.dhcp import OptionCode
from askport.core.kinds import kind_reading, placeholders, recognising
from askport.core.lessons.marks import Marks
from askport.core.plan.target import Target
from askport.core.visit import narrate, steps
from askport.core.wire import Frame, hear
from askport.edges.kind_files import KindShelf, known_kinds
from conftest import askport, askport_in_bounds, pass_time
from test_finding import dhcp
from test_session import walk

IT = addresses.MacAddress(bytes.fromhex("00005e005320"))
TARGET = Target(interface=IPv4Interface("10.84.16.40/22"), gateway=IPv4Address("10.84.19.254"))
WHOLE = """schema = "askport.kind/1"
name = "blower drive"
[recognise]
mac = ["00:00:5e:00:53:2"]
names = ["bl-*"]
[delivered]
address = "192.168.77.20/24"
[needs]
boot_s = 90
[[way]]
by = "console"
over = "telnet"
permanent = "after keep"
read = [{ expect = ">", send = "show ip", find = 'at (?P<address>\\S+)' }]
set = [
  { expect = ">", send = "ip {address} {mask} {gateway.4} {dns1:padded}" },
  { expect = ">", send = "name {name} {plan.RACK}" },
]
keep = [{ expect = ">", send = "save" }]
[[way]]
by = "page"
set = [{ get = "/net", find = 'token" value="(?P<token>[^"]+)' }, { post = "/save", form = { t = "{token}" } }]
[[way]]
by = "ping"
payload = 127
[[way]]
by = "hand"
say = "Menu"
"""


def test_a_whole_file_is_read_and_the_schema_knows_its_keys():
    kind = kind_reading.read_kind(WHOLE, "x.toml")
    assert (kind.name, [way.by for way in kind.way]) == ("blower drive", ["console", "page", "ping", "hand"])
    schema = json.loads(askport("kinds", "schema").stdout)
    assert {"schema", "recognise", "delivered", "needs", "way"} <= schema["properties"].keys()


@pytest.mark.parametrize(
    ("old", "new", "line", "said"),
    [
        ('name = "blower drive"', "name = blower", 2, "put text in quotation marks"),
        ("boot_s = 90", 'boot_s = "90"', 9, "a number"),
        ("boot_s = 90", "boot_s = 0", 9, "a number from 0"),
        ("boot_s = 90", "bots_s = 90", 9, "boot_s was probably meant"),
        ('"askport.kind/1"', '"askport.kind/2"', 1, '"askport.kind/1" was probably meant'),
        ('name = "blower drive"\n', "", 1, 'the file has no name: add name = "..."'),
        ("names =", "nmaes =", 5, "names was probably meant"),
        ('["bl-*"]', '"bl-*"', 5, "a list in square brackets"),
        ("00:00:5e:00:53:2", "00:00:5g", 4, "first hexadecimal digits"),
        ("192.168.77.20/24", "192.168.77.20", 7, "no prefix length: write 192.168.77.20/24"),
        ("192.168.77.20/24", "192.168.77.0/24", 7, "is the network address"),
        ('by = "ping"', 'by = "pong"', 23, '"ping" was probably meant'),
        ('by = "ping"\n', "", 23, "a way is by console, page, ping, hand or snmp"),
        ('by = "ping"\npayload = 127', 'by = "snmp"\nversion = "4"', 25, '"1", "2c" or "3"'),
        ('by = "ping"\npayload = 127', 'by = "snmp"\nauth = "sha"', 23, 'add version = "3"'),
        ('by = "ping"\npayload = 127', 'by = "snmp"\nversion = "3"\nprivacy = "aes"', 23, "privacy needs auth"),
        ("payload = 127", "payload = 9000", 25, "a number up to 1472"),
        ("payload = 127\n", "", 23, "add payload = 127"),
        ('"telnet"', '"telent"', 12, '"telnet" was probably meant'),
        ('over = "telnet"', 'over = "telnet"\nport = 70000', 13, "a number up to 65535"),
        ('over = "telnet"', 'over = "telnet"\nbaud = 9600', 10, "only a serial line has a baud rate"),
        ('over = "telnet"', 'over = "serial"\nformat = "9N1"', 13, "such as 8N1"),
        ('keep = [{ expect = ">", send = "save" }]\n', "", 10, "add keep = [...]"),
        ('"after keep"', '"allways"', 13, 'write "yes", "no" or "after keep"'),
        ('{ expect = ">", send = "save" }', '{ expect = ">" }', 19, "has no send"),
        ('{ expect = ">", send = "save" }', '{ expect = "", send = "save" }', 19, "expect"),
        ("ip {address}", "ip {adress}", 16, "write {address}"),
        ("{gateway.4}", "{gateway.5}", 16, "{gateway.1} to {gateway.4}"),
        ("{name}", "{name.1}", 17, "write {name}"),
        ("at (?P<address>", "at ((?P<address>", 14, "no regular expression"),
        ('get = "/net"', 'got = "/net"', 22, "get was probably meant"),
        ('form = { t = "{token}" }', 'form = { t = "{tokn}" }', 22, "write {token}"),
        ('post = "/save", ', 'post = "/save", get = "/", ', 22, "give one of get, post, put"),
        ("[needs]", "[neds]", 8, "needs was probably meant"),
        ("'at (?P<address>\\\\S+)'", '"at (?P<address>\\\\S+)"', 14, "single quotation marks"),
    ],
)
def test_each_mistake_is_one_sentence_with_line_and_remedy(old, new, line, said, tmp_path):
    text = WHOLE.replace(old.replace("\\\\", "\\"), new.replace("\\\\", "\\"), 1)
    assert text != WHOLE
    with pytest.raises(errors.BadInput) as refused:
        kind_reading.read_kind(text, "x.toml")
    message = refused.value.message
    assert message.startswith(f"x.toml, line {line}: "), message
    assert said in message.splitlines()[0]


def test_the_command_names_the_file_and_ends_with_2(tmp_path):
    file = tmp_path / "x.toml"
    file.write_text(WHOLE.replace("boot_s = 90", "boots = 90"))
    run = askport("kinds", "check", file)
    assert (run.returncode, run.stderr) == (2, f"{file}, line 9: boots is not known: boot_s was probably meant.\n")
    file.write_text(WHOLE)
    assert askport("kinds", "check", file).returncode == 0
    file.write_bytes(b"\xff")
    assert "save it as UTF-8" in askport("kinds", "check", file).stderr
    assert askport("kinds", "show", "no such").returncode == 2
    assert "longest start: 130 s" in askport("kinds", "show", "gate reader").stdout


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ('get = "/net"', 'get = "http://203.0.113.9/net"', "line 22"),
        ('"blower drive"', '"blower\\u001b]0;drive"', "line 2"),
        ("boot_s = 90", "boot_s = " + "9" * 6_000, "line 9"),
        ('"bl-*"', ", ".join(['"bl-*"'] * 2_000_000), "line 5"),
        ("at (?P<address>", "(a+)+(?P<address>", "blower drive, 4 ways"),
        ("boot_s = 90", "boot_s = " + "[" * 90_000, "line 9"),
    ],
    ids=["another host", "escape", "digits", "long", "expression", "nested"],
)
def test_a_hostile_kind_file_is_one_sentence(tmp_path, old, new, said):
    (tmp_path / "x.toml").write_text(WHOLE.replace(old, new, 1))
    run = askport_in_bounds("kinds", "check", tmp_path / "x.toml")
    is_harmless = said.startswith("blower")  # an expression that never ends is bounded where it is used
    assert (run.returncode, said in run.stdout + run.stderr) == (0 if is_harmless else 2, True), run.stderr[-500:]
    assert "\x1b" not in run.stdout + run.stderr
    assert run.stderr.count("\n") <= 1
    assert "fault of Ask Port" not in run.stderr


def test_placeholders_stand_for_the_plan():
    values = placeholders.values_of(TARGET, IT, name="BL-01")
    said = "{address} {mask} {prefix} {gateway} {dns1} {address.3} {address:padded} {mac} {name}"
    assert placeholders.fill(said, values) == (
        "10.84.16.40 255.255.252.0 22 10.84.19.254 0.0.0.0 16 010.084.016.040 00:00:5e:00:53:20 BL-01"
    )
    padded = placeholders.values_of(TARGET, IT, padded=True)
    assert (placeholders.fill("{address}", padded), placeholders.fill("{prefix}", padded)) == ("010.084.016.040", "22")
    alone = placeholders.values_of(Target(interface=TARGET.interface), IT, own_gateway=True)
    assert placeholders.fill("{gateway}", alone) == "10.84.16.40"
    with pytest.raises(errors.BadInput, match="--password-from"):
        placeholders.fill("{password}", values)


def test_kinds_are_recognised_by_all_that_is_given_the_stricter_first():
    strict = WHOLE.replace('"blower drive"', '"named drive"').replace("00:53:2", "00:53:20")
    loose = WHOLE.replace('names = ["bl-*"]\n', "")
    other = WHOLE.replace("00:00:5e:00:53:2", "00:00:5e:00:53:4")
    kinds = [kind_reading.read_kind(each, "x") for each in (loose, other, strict)]
    finder = Finder([], now=0.0)
    finder.receive(hear(Frame(at=0.0, data=arp_question(IT, IPv4Address("10.0.0.1"), sender=IPv4Address("10.0.0.9")))))
    fits = [(fit.kind.name, fit.reason) for fit in recognising.fitting_kinds(kinds, finder.devices()[0])]
    assert fits == [("blower drive", "by its MAC address")]
    named = dhcp(IT, options=((OptionCode.HOST_NAME, b"bl-7"),))
    finder.receive(hear(Frame(at=1.0, data=named)))
    fits = [(fit.kind.name, fit.reason) for fit in recognising.fitting_kinds(kinds, finder.devices()[0])]
    assert fits == [("named drive", "by its MAC address and its name bl-7"), ("blower drive", "by its MAC address")]


@pytest.mark.parametrize(("by", "fits"), [
    ('protocol = "modbus", text = "Calder*"', True), ('protocol = "modbus", text = "Other*"', False),
    ('protocol = "knx", vendor = 2', True), ('protocol = "knx", vendor = 3', False), ('protocol = "cip"', False),
])  # fmt: skip
def test_a_kind_is_recognised_by_what_a_device_says_in_its_field_protocol(by, fits):
    kind = kind_reading.read_kind(f'schema = "askport.kind/1"\nname = "x"\n[recognise]\nidentity = [{{ {by} }}]\n', "x")
    finder = Finder([], now=0.0)
    finder.receive(hear(Frame(at=0.0, data=arp_question(IT, IPv4Address("10.0.0.1"), sender=IPv4Address("10.0.0.9")))))
    said = Identity("knx", 2, None, 7), Identity("modbus", text="Calder Vale PV-7")
    assert bool(recognising.fitting_kinds([kind], replace(finder.devices()[0], identities=said))) is fits


def test_what_ships_is_sound_and_names_no_two_alike():
    found, wrong = known_kinds()
    assert (len(found), wrong) == (9, [])
    assert len({each.kind.name for each in found}) == 9


def test_a_console_is_asked_into_and_told_on_the_bench_and_the_record_says_what_was_written(practice):
    """SW-01: a wrong log-in is a refusal and nothing else; the right one sets and keeps; DNS is nowhere claimed."""
    bench, run = practice("SW-01")
    session = walk(bench, run, {steps.Phase.MAY_SET}, hands=False)
    assert "log-in" in narrate.next_line(session, bench.now()).sentence
    session.stages.go_back(steps.Step.FIND, bench.now())
    pass_time(bench, run, until=lambda: session.cable.search.candidate is not None)
    assert session.stages.setting.asks_for is errors.Wants.LOG_IN, "it can be given before, for a crate on a switch too"
    walk(bench, run, {steps.Phase.MAY_SET}, hands=False)
    assert session.device.fit.reason == "by its MAC address and its name pump-room"
    session.stages.setting.log_in("fitter", "marked-wrong", bench.now())
    lines, missing = session.stages.setting.lines(bench.now())
    assert (lines, missing) == (["fitter", "•••", "address 10.84.16.2/22 gateway 10.84.19.254", "save running"], "")
    pass_time(bench, run, until=lambda: session.phase is steps.Phase.MAY_SET)
    assert "refused: log-in" in session.device.not_read
    session.enter(bench.now())
    pass_time(bench, run, until=lambda: session.phase is steps.Phase.NOT_SET)
    assert "refused: log-in" in session.device.way.because
    session.stages.setting.log_in("fitter", "hatchery", bench.now())
    pass_time(bench, run, until=lambda: session.phase is steps.Phase.MAY_SET)
    assert str(session.device.says.address) == "172.26.40.2"
    session.enter(bench.now())
    walk(bench, run, {steps.Phase.RECORDED})
    visit = run.job.register.rows()[0].last
    assert (visit.way, visit.is_proven, bench.device.saved.interface.ip) == ("console", True, IPv4Address("10.84.16.2"))
    assert (visit.as_left.dns.basis, visit.as_left.gateway.basis) == (None, "measured")
    assert not any(b"marked-wrong" in path.read_bytes() for path in run.job.path.parent.iterdir())


def test_one_without_an_address_takes_it_from_an_echo_of_its_length_only(practice, monkeypatch):
    bench, run = practice("WX-01")
    session = walk(bench, run, {steps.Phase.MAY_SET}, hands=False)
    assert "Set 10.84.16.90/22 with a ping" in narrate.next_line(session, bench.now()).sentence
    monkeypatch.setattr(bench.device, "_payload", 126)
    session.enter(bench.now())
    pass_time(bench, run, span=70.0)
    assert session.phase is steps.Phase.SETTING
    assert "power-cycle it" in narrate.next_line(session, bench.now()).sentence
    monkeypatch.setattr(bench.device, "_payload", 127)
    bench.power(False)
    pass_time(bench, run, span=3.0)
    bench.power(True)
    walk(bench, run, {steps.Phase.RECORDED})
    visit = run.job.register.rows()[0].last
    bases = (visit.as_left.address.basis, visit.as_left.dns.basis)
    assert (visit.way, *bases, visit.is_proven) == ("ping", "measured", None, True)


@pytest.mark.parametrize("keeps", [True, False])
def test_what_was_given_is_told_to_be_kept_or_is_gone_at_the_power_cut(practice, keeps):
    """BL-01: screen and register say so both times."""
    bench, run = practice("BL-01")
    session = walk(bench, run, {steps.Phase.MAY_KEEP}, hands=False)
    assert narrate.next_line(session, bench.now()).action == "Save it (console)."
    if keeps:
        session.enter(bench.now())
    else:
        session.stages.leave_out(bench.now())
    pass_time(bench, run, until=lambda: session.phase is steps.Phase.POWER_CYCLE)
    assert (bench.device.saved.interface is not None) is keeps
    bench.power(False)
    pass_time(bench, run, span=3.0)
    bench.power(True)
    cycle = session.device.power_cycle
    pass_time(bench, run, until=lambda: session.phase is steps.Phase.FORGOTTEN or cycle.may_be_confirmed)
    if cycle.may_be_confirmed:  # whoever pulled it says so
        session.enter(bench.now())
    pass_time(bench, run, until=lambda: session.phase in (steps.Phase.FORGOTTEN, steps.Phase.MAY_RECORD))
    assert session.phase is (steps.Phase.MAY_RECORD if keeps else steps.Phase.FORGOTTEN)
    assert ("asked for an address by BOOTP" in narrate.next_line(session, bench.now()).sentence) is not keeps
    assert run.job.register.rows()[0].last.proofs["power-cycle"].passed is keeps


@pytest.mark.parametrize("sure", [False, True])
def test_a_kind_that_only_its_maker_speaks_for_is_offered_and_not_taken(practice, sure):
    """A lesson of a unit that showed nothing else says of itself that it is not sure."""
    bench, run = practice("TG-01")
    (gauge,) = [each for each in run.kinds if each.name == "tank level gateway"]
    mac = addresses.MacAddress.parse("00:00:5e:00:53:77")
    assert Marks(mac).recognise() == {"mac": ["00:00:5e"], "sure": False}
    assert Marks(mac, ["Tank gauge TG-7, log in"]).recognise() == {
        "mac": ["00:00:5e"],
        "banner": ["*Tank gauge*log in*"],
    }
    recognise = gauge.recognise.model_copy(update={"mac": ("00005e",), "sure": sure})
    run.kinds[:] = [gauge.model_copy(update={"recognise": recognise})]
    session = walk(bench, run, {steps.Phase.MAY_SET, steps.Phase.SETTING}, hands=False)
    is_offer = not sure
    assert [each.is_offer for each in session.device.fits] == [is_offer]
    assert (session.device.kind is None, session.device.way_name == "hand") == (is_offer, is_offer)
    assert ("page" in session.visit.way_names, session.device.says is None) == (True, is_offer)
    session.stages.setting.choose_way("page", bench.now())
    walk(bench, run, {steps.Phase.RECORDED})
    assert run.job.register.rows()[0].last.way == "page"


def test_a_lesson_is_its_own_job_s_and_a_file_that_changes_is_read_again(tmp_path):
    for name in ("a.askport", "a.b.askport"):
        (tmp_path / name).touch()
    text = 'schema = "askport.kind/1"\nname = "{}"\n'
    for stem in ("pump", "a.pump", "a.b.pump"):
        (tmp_path / f"{stem}.kind.toml").write_text(text.format(stem))

    def own(shelf):
        return sorted(each.name for each in shelf.kinds() if "pump" in each.name)

    shelf = KindShelf(tmp_path / "a.askport")
    assert own(shelf) == ["a.pump", "pump"]
    assert own(KindShelf(tmp_path / "a.b.askport")) == ["a.b.pump", "pump"]
    changed = tmp_path / "pump.kind.toml"
    changed.write_text(text.format("other pump"))
    os.utime(changed, ns=(1, 1))
    (tmp_path / "a.pump.kind.toml").write_text("no kind")
    os.utime(tmp_path / "a.pump.kind.toml", ns=(1, 1))
    assert (own(shelf), len(shelf.wrong)) == (["other pump"], 1)
