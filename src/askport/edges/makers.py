"""Makers of MAC addresses, from the IEEE registry that netaddr ships."""

from functools import lru_cache

from askport.core.addresses import MacAddress
from askport.core.text import display_text

LOCALLY_MADE = "locally administered"


@lru_cache(maxsize=1024)
def maker(mac: MacAddress) -> str | None:
    """Return the maker of an address, the words for a locally made one, or None where the registry has none."""
    if mac.is_local:
        return LOCALLY_MADE
    from netaddr import EUI  # loads its registry, which a run that hears nobody can do without
    from netaddr.core import NotRegisteredError

    try:
        return display_text(EUI(str(mac)).oui.registration().org, 60)
    except NotRegisteredError:
        return None
