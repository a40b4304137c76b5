"""A stand-in that is in no crate: what a new one takes is this module and one line of the scenario."""

from ipaddress import IPv4Interface

from askport.bench import scenario, stand_in
from askport.core.addresses import MacAddress
from askport.core.plan import target, working_order


class EggCounter(stand_in.StandIn):
    """Says nothing, and answers when it is asked."""

    def __init__(self):
        super().__init__(MacAddress.parse("00:00:5e:00:53:77"), stand_in.Settings(IPv4Interface("192.168.61.77/24")))
        self.host.ports = (80,)


UNIT = scenario.Unit(
    working_order.WorkItem(
        tag="EC-01", description="egg counter",
        target=target.Target(interface=IPv4Interface("10.84.16.77/22"), gateway=scenario.SITE.gateway),
    ),
    EggCounter, in_crate=False,
)  # fmt: skip
