"""A stand-in that is in no crate: what a new one takes is this module and one line of the scenario."""

from ipaddress import IPv4Interface

from askport.bench.scenario import SITE, Unit
from askport.bench.stand_in import Settings, StandIn
from askport.core.addresses import MacAddress
from askport.core.plan.target import Target
from askport.core.plan.working_order import WorkItem


class EggCounter(StandIn):
    """Says nothing, and answers when it is asked."""

    def __init__(self):
        super().__init__(MacAddress.parse("00:00:5e:00:53:77"), Settings(IPv4Interface("192.168.61.77/24")))
        self.host.ports = (80,)


UNIT = Unit(
    WorkItem(
        tag="EC-01", description="egg counter",
        target=Target(interface=IPv4Interface("10.84.16.77/22"), gateway=SITE.gateway),
    ),
    EggCounter, in_crate=False,
)  # fmt: skip
