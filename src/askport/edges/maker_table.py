"""Makers of MAC addresses: a table of the technician's own, then the IEEE registry that netaddr ships."""

from functools import lru_cache

from platformdirs import user_config_path

from askport.core import addresses, errors, makers, text
from askport.core.phrases import phrase

LOCALLY_MADE = phrase("locally administered")
_SHARED = "ieee registration authority"
"""Stands in the registry for 24-bit blocks that are given out in pieces to several makers."""


@lru_cache(maxsize=1)
def _own_table() -> makers.Makers:
    path = user_config_path("askport") / "makers.tsv"
    try:
        return makers.read_makers(path.read_text(encoding="utf-8", errors="replace"), f"'{path}'")
    except FileNotFoundError:
        return {}
    except OSError as error:
        raise errors.MachineRefused("'{path}' cannot be read: {why}.", path=path, why=error.strerror) from None


@lru_cache(maxsize=1024)
def maker(mac: addresses.MacAddress) -> str | None:
    """Return the maker of an address, the words for a locally made one, or None where nobody knows it.

    Raises:
        BadInput: the technician's own table cannot be read.
        MachineRefused: its file cannot be opened.
    """
    own = makers.maker_in(_own_table(), mac)
    if own:
        return own
    if mac.is_local:
        return LOCALLY_MADE
    from netaddr import EUI  # loads its registry, which a run that hears nobody can do without
    from netaddr.core import NotRegisteredError

    address = EUI(str(mac))
    try:
        name = str(address.iab.registration().org if address.is_iab() else address.oui.registration().org)
    except (NotRegisteredError, AttributeError):
        return None
    return None if name.lower() == _SHARED else text.display_text(name, makers.MAX_NAME)
