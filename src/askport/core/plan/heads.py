"""The heads of columns in a plan, as people write them: guessed, and shown."""

import re
import unicodedata
from collections.abc import Mapping, Sequence

from askport.core.errors import BadInput
from askport.core.phrases import listed
from askport.core.text import display_text

_WORDS = {
    "tag": (
        "tag|unit|unit label|name|device|device name|device tag|asset|label|point|kennzeichen|bezeichnung|gerat|"
        "geratename|anlagenkennzeichen|bmk|repere|etiquette|equipement|nom|appareil|etiqueta|nombre|equipo|nome|apparato"
    ),
    "place": (
        "place|where|location|room|position|cabinet|panel|area|ort|standort|raum|einbauort|schrank|lieu|emplacement|"
        "local|salle|armoire|ubicacion|lugar|sala|luogo|posizione"
    ),
    "kind": ("kind|type|model|device type|product|typ|modell|geratetyp|produkt|modele|produit|tipo|modelo|modello|art"),
    "mac": (
        "mac|mac address|mac id|mac-address|ethernet address|physical address|hardware address|hw address|hw-address|"
        "mac adresse|mac-adresse|hardwareadresse|adresse mac|adresse physique|direccion mac|indirizzo mac"
    ),
    "address": (
        "ip|ip address|address|ipv4|ipv4 address|ip-address|final ip|new ip|static ip|ip adresse|ip-adresse|"
        "adresse|neue ip|adresse ip|adresse ipv4|direccion ip|direccion|indirizzo ip|indirizzo"
    ),
    "prefix": (
        "prefix|prefix length|cidr|mask|subnet mask|netmask|maske|netzmaske|subnetzmaske|subnetmaske|"
        "netzwerkmaske|masque|masque de sous-reseau|masque reseau|mascara|mascara de subred|maschera|praefix|"
        "prafix|suffix"
    ),
    "gateway": (
        "gateway|default gateway|router|gw|standardgateway|standard-gateway|passerelle|passerelle par defaut|"
        "puerta de enlace|gateway predefinito"
    ),
    "dns": (
        "dns|dns server|dns servers|nameserver|name server|dns1|dns 1|dns server 1|primary dns|serveur dns|"
        "serveurs dns|dns-server|servidor dns|dns2|dns 2|dns server 2|secondary dns|dns3|dns 3|dns server 3"
    ),
    "network": "network|subnet|net|subnetz|netz|netzwerk|reseau|sous-reseau|red|subred|rete",
    "vlan": "vlan|vlan id|vlan-id",
    "pool": "pool|dhcp pool|dhcp range|dhcp-bereich|dhcp bereich|plage dhcp",
    "reserved": "reserved|reserved range|reserviert|plage reservee",
}
FIELDS = tuple(_WORDS)
"""What a column can hold; every other column is carried along."""
_NAMES = (
    "name|device|device name|asset|point|bezeichnung|gerat|geratename|equipement|nom|appareil|nombre|equipo|nome|"
    "apparato"
)
"""Heads of tags that are heads of names too, where a number stands beside them."""
_NUMBERS = (
    "nr|no|n|num|number|nummer|numero|tag nr|tag no|tag number|unit no|device no|device number|geratenummer|gerate nr|"
    "pos|pos nr|lfd nr|position nr"
)
_BY_HEAD = {head: field for field, heads in _WORDS.items() for head in heads.split("|")}
_MOST_TITLE_ROWS = 20


def _plain(head: str) -> str:
    """Return a head without accents, case, units in brackets and marks of required fields."""
    bare = "".join(
        each for each in unicodedata.normalize("NFKD", head.casefold()) if not unicodedata.combining(each)
    ).replace("ß", "ss")
    return " ".join(re.sub(r"\(.*?\)|[*:#._]", " ", bare).split())


def field_of(head: str) -> str | None:
    """Return which field a column holds by its head, or None."""
    return _BY_HEAD.get(_plain(head))


def find_heads(rows: Sequence[Sequence[str]], mapped: Mapping[str, str]) -> int:
    """Return the place of the row that has the heads: of the first ones the one with most that are known.

    Raises:
        BadInput: none has a tag or an address among its heads.
    """
    best, most = -1, 0
    for place, row in enumerate(rows[:_MOST_TITLE_ROWS]):
        fields = {mapped.get(cell.strip()) or field_of(cell) for cell in row if cell.strip()} - {None}
        if len(fields) > most and fields & {"tag", "address", "network"}:
            best, most = place, len(fields)
    if best < 0:
        first = next((row for row in rows if any(cell.strip() for cell in row)), ())
        seen = listed([f"'{display_text(cell.strip(), 30)}'" for cell in first if cell.strip()][:6]) or "nothing"
        raise BadInput(
            "No row of it heads its columns: {seen} stand first. Give the columns with --map "
            "COLUMN=FIELD; the fields are {fields}.",
            seen=seen,
            fields=listed(FIELDS),
        )
    return best


def columns_of(heads: Sequence[str], mapped: Mapping[str, str]) -> list[tuple[str, str | None]]:
    """Return for each column its head and its field; None where it is carried along.

    Raises:
        BadInput: what was mapped is no column or no field.
    """
    names = [cell.strip() for cell in heads]
    for column, wanted in mapped.items():
        if column not in names:
            there = listed([f"'{display_text(each, 30)}'" for each in names if each][:8])
            raise BadInput(
                "--map names the column '{column}', which is not there: there are {there}.",
                column=display_text(column, 40),
                there=there,
            )
        if wanted not in FIELDS and wanted != "-":
            what = display_text(wanted, 40)
            raise BadInput(
                "--map names the field '{what}': the fields are {fields}, or - for none.",
                what=what,
                fields=listed(FIELDS),
            )
    found: list[tuple[str, str | None]] = []
    taken: set[str] = set()
    for name in names:
        field: str | None = mapped.get(name) or field_of(name)
        if field == "-" or (field in taken and field != "dns" and name not in mapped):
            field = None
        if field:
            taken.add(field)
        found.append((name, field))
    return found


def with_tags(columns: list[tuple[str, str | None]], rows: Sequence[Sequence[str]]) -> list[tuple[str, str | None]]:
    """Return the columns with one for the tags: where no head is known for one, it is filled and different everywhere.

    Where a number stands beside a name, the number is the tag, unless it counts the rows.

    Raises:
        BadInput: several are.
    """
    columns = _by_number(columns, rows)
    fields = {field for _, field in columns}
    if fields & {"tag", "network"} or "address" not in fields:
        return columns
    filled = [row for row in rows if sum(bool(cell.strip()) for cell in row) > 1]
    may_be = []
    for place, (name, field) in enumerate(columns):
        cells = [row[place].strip() if place < len(row) else "" for row in filled]
        if name and field is None and cells and all(cells) and len(set(cells)) == len(cells):
            may_be.append(place)
    if len(may_be) > 1:
        lines = listed([f"--map '{display_text(columns[place][0], 30)}=tag'" for place in may_be])
        raise BadInput("No column is known to hold the tags, and several may: add one of {lines}.", lines=lines)
    return [(name, "tag" if [place] == may_be else field) for place, (name, field) in enumerate(columns)]


def _by_number(columns: list[tuple[str, str | None]], rows: Sequence[Sequence[str]]) -> list[tuple[str, str | None]]:
    heads = [(place, _plain(name), field) for place, (name, field) in enumerate(columns)]
    named = next((place for place, head, field in heads if field == "tag" and head in _NAMES.split("|")), None)
    numbered = next((place for place, head, field in heads if not field and head in _NUMBERS.split("|")), None)
    if named is None or numbered is None:
        return columns
    numbers = [row[numbered].strip() for row in rows if len(row) > max(named, numbered) and row[named].strip()]
    first = int(numbers[0]) if numbers and numbers[0].isdecimal() else 0
    if not all(numbers) or numbers == [str(first + place) for place in range(len(numbers))]:
        return columns
    fields = {named: None, numbered: "tag"}
    return [(name, fields.get(place, field)) for place, (name, field) in enumerate(columns)]
