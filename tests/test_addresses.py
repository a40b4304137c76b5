"""Reading what people type: one sentence that names the input, the fault and the remedy."""

from ipaddress import IPv4Address, IPv4Interface, IPv4Network

import pytest
from hypothesis import given
from hypothesis import strategies as st

from askport.core import addresses, errors
from askport.core.plan.sentence import read_target, write_target
from askport.core.plan.target import Pool, Site, Target, check_target
from askport.core.plan.working_order import WorkItem, following
from askport.core.text import display_text

SITE = Site(
    name="x", network=IPv4Network("10.84.16.0/22"), gateway=IPv4Address("10.84.19.254"),
    pools=(Pool(first=IPv4Address("10.84.18.0"), last=IPv4Address("10.84.18.255")),),
)  # fmt: skip


@pytest.mark.parametrize(
    "text", ["00:00:5e:00:53:10", "00-00-5E-00-53-10", "0000.5e00.5310", "00005e005310", " 00 00 5e 00 53 10"]
)
def test_a_mac_address_is_read_in_any_notation(text):
    assert str(addresses.MacAddress.parse(text)) == "00:00:5e:00:53:10"


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("10.84.16.40", "no prefix length"),
        ("10.84.16.40/255.0.255.0", "not in one piece"),
        ("10.84.16.40 255.255.252", "not an IPv4 mask"),
        ("10.84.16.0 255.255.252.0", "network address of 10.84.16.0/22"),
        ("10.84.16.40/33", "from 0 to 32"),
        ("010.084.016.040/22", "write 10.84.16.40"),
        ("10.84.16.300/22", "300 is over 255"),
        ("10.84.16/22", "not an IPv4 address"),
        ("10.84.16.0/22", "network address of 10.84.16.0/22"),
        ("10.84.19.255/22", "broadcast address"),
        ("224.0.0.1/24", "groups"),
        ("0.0.0.0/8", "no host"),
        ("10.84.16.40/\x1b[31m22", "after the slash"),
        ("[/]", "not an IPv4 address"),
    ],
)
def test_addresses_that_cannot_be_meant(text, said):
    with pytest.raises(errors.BadInput) as caught:
        addresses.parse_interface(text)
    assert said in caught.value.message
    assert caught.value.message.isprintable()


@given(st.integers(0, 32))
def test_masks_and_prefixes_are_one_another(prefix):
    assert addresses.prefix_of_mask(addresses.mask_of_prefix(prefix)) == prefix


@given(st.text())
def test_any_text_is_an_address_or_a_sentence(text):
    for read in (addresses.parse_address, addresses.parse_interface, addresses.MacAddress.parse, read_target):
        try:
            read(text)
        except errors.BadInput as error:
            assert error.message.isprintable()


@pytest.mark.parametrize(
    ("typed", "meant"), [("10.84.61.40", "10.84.16.40"), ("10.48.16.40", "10.84.16.40"), ("84.10.16.40", "10.84.16.40"),
                         ("10.16.84.40", "10.84.16.40"), ("192.168.61.7", None)]
)  # fmt: skip
def test_swapped_digits_and_octets_are_seen(typed, meant):
    found = addresses.transposed(IPv4Address(typed), SITE.network)
    assert found == (IPv4Address(meant) if meant else None)
    assert meant is None or addresses.is_transposition(IPv4Address(typed), IPv4Address(meant))


@pytest.mark.parametrize(
    ("sentence", "about", "said"),
    [
        ("10.84.16.40/22 via 10.84.19.254", None, ""),
        ("10.84.16.40/22 via 10.84.16.40", None, ""),  # devices that insist on a gateway take their own address
        ("10.84.16.40/22 via 10.84.91.254", "gateway", "10.84.19.254 meant"),
        ("10.84.61.40/22 via 10.84.19.254", "gateway", "address 10.84.16.40 meant"),
        ("10.84.16.40/22 via 10.84.19.255", "gateway", "broadcast"),
        ("10.84.18.40/22", "pool", "DHCP pool"),
        ("10.84.16.40/24", "site", "mask is /22"),
        ("10.84.61.40/22", "site", "10.84.16.40 meant"),
        ("10.84.16.21/22", "register", "BL-01"),
        ("169.254.7.7/16", "address", "fallback"),
    ],
)
def test_planned_values_are_checked(sentence, about, said):
    checks = check_target(read_target(sentence), SITE, {IPv4Address("10.84.16.21"): "BL-01"})
    failed = {check.about: check.sentence for check in checks if not check.passed}
    assert (about in failed) if about else not failed
    assert said in failed.get(about, "")


def test_a_plan_is_one_sentence_there_and_back():
    sentence = "10.84.16.40/22 via 10.84.19.254 dns 10.84.19.253 10.84.19.252"
    assert write_target(read_target(sentence)) == sentence
    with pytest.raises(errors.BadInput, match="'gateway' is not understood"):
        read_target("10.84.16.40/22 gateway 10.84.19.254")


@pytest.mark.parametrize(
    ("tag", "address", "next_tag", "next_address"),
    [("OX-09", "10.84.16.9", "OX-10", "10.84.16.10"), ("pump 3b", "10.84.16.9", "pump 4b", "10.84.16.10"),
     ("gate", "10.84.19.253", "gate", None), ("r1", "10.84.16.0", "r2", "10.84.16.2"),
     ("OX-01", "10.84.19.254", "OX-02", None)],
)  # fmt: skip
def test_a_crate_counts_on(tag, address, next_tag, next_address):
    """The next unit gets the next tag and address, and none where no host can have it; the gateway's is passed over."""
    gateway = IPv4Address("10.84.16.1" if tag == "r1" else "10.84.19.254")
    target = Target(interface=IPv4Interface(f"{address}/22"), gateway=gateway)
    following_item = following(WorkItem(tag=tag, target=target))
    assert following_item.tag == next_tag
    assert (str(following_item.target.interface.ip) if following_item.target else None) == next_address


@given(st.one_of(st.text(), st.binary()))
def test_text_from_the_wire_is_harmless(raw):
    shown = display_text(raw, 30)
    assert len(shown) <= 30
    assert not any(ord(char) < 32 or 0x7F <= ord(char) < 0xA0 or char in "\u202e\u200b\u2066" for char in shown)


@pytest.mark.parametrize("text", ["10.84.16.70/22", "10.84.16.70 255.255.252.0", "10.84.16.70/255.255.252.0",
                                  " 10.84.16.70   255.255.252.0 ", "10.84.16.70 / 22", "10.84.16.70 /22"])  # fmt: skip
def test_every_usual_notation_means_the_same(text):
    assert addresses.parse_interface(text) == IPv4Interface("10.84.16.70/22")
    assert addresses.parse_network(text) == IPv4Interface("10.84.16.70/22").network
    sentence = read_target(f"{text} via 10.84.19.254 dns 10.84.19.253, 10.84.19.252")
    assert (str(sentence.interface), len(sentence.dns)) == ("10.84.16.70/22", 2)
