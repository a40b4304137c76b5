"""Tables over an enumeration: none lacks an entry, and every kind of clue goes through every view."""

import importlib
import pkgutil
from enum import Enum
from ipaddress import IPv4Address

import pytest

import askport
from askport.core import addresses, wire
from askport.core.finding import clues, quoting
from askport.core.formats.arp import arp_question
from askport.tui.pictures.find_picture import find_lines

IT, AT = addresses.MacAddress.parse("02:00:00:00:00:99"), IPv4Address("10.84.16.40")
PARTIAL = {
    "errand_run._ENTER": "a command presses Enter at no other step",
    "proving_command._SAYS": "a command says nothing of the other phases",
    "find_run._LONGEST_S": "the others end when everything was asked",
    "drawings._MARKS": "free and reserved cells have no mark",
    "switch_picture._TURNS": "a unit at hand is said by its step",
    "datagram_devices._KNX_ANSWERS": "answers are not answered",
    "dns._NAME_BEHIND": "the others hold no name",
}
"""Tables that are asked by ``get`` or guarded, each with why."""


def tables():
    """Yield every table of a module whose keys are members of one enumeration."""
    for each in pkgutil.walk_packages(askport.__path__, "askport."):
        if each.name.endswith("__main__"):
            continue
        module = importlib.import_module(each.name)
        for name, value in vars(module).items():
            if isinstance(value, dict) and value:
                kinds = {type(key) for key in value}
                if len(kinds) == 1 and issubclass(kind := kinds.pop(), Enum):
                    yield f"{each.name.rpartition('.')[2]}.{name}", kind, set(value)


def test_no_table_over_an_enumeration_lacks_an_entry():
    found = list(tables())
    assert len(found) > 10
    lacking = {name: set(kind) - keys for name, kind, keys in found if set(kind) != keys and name not in PARTIAL}
    assert lacking == {}
    assert {name for name, kind, keys in found if set(kind) != keys} >= set(PARTIAL), "what is whole is no exception"


@pytest.mark.parametrize("kind", clues.ClueKind)
def test_every_kind_of_clue_goes_through_every_view(practice, kind):
    """What a telephone asks for by LLDP, a station with a conflict and a group of routers are drawn like all others."""
    _, run = practice("TG-01")
    text = {clues.ClueKind.GIVEN: "dhcp", clues.ClueKind.HAS_IPV6: "fe80::1"}.get(kind, "udp")
    clue = clues.Clue(IT, kind, AT, about=AT, text=text, source="lldp", port=80, identity=clues.Identity("dcp", 1, 2))
    heard = wire.hear(wire.Frame(at=1.0, data=arp_question(IT, AT, sender=AT)))
    finder = run.session.cable.finder
    finder.receive(heard)
    finder._gathered[IT].add([clue], heard)
    shown = "".join(each.plain for each in find_lines(run.session, 120, 2.0))
    told = [reason.sentence for device in finder.devices() for reason in device.reasons()]
    assert kind.lane.partition("{")[0].strip() in shown
    assert any(kind.sentence.partition("{")[0].strip() in each for each in told), told
    assert quoting.bytes_behind(heard, clue)
