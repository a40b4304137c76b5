"""The site plan: in from files as different people make them, checked, worked on, and out again without loss."""

import json
import zipfile
from ipaddress import IPv4Address, IPv4Network

import pytest
import xlsxwriter
from hypothesis import given, settings
from hypothesis import strategies as st

from askport.core.errors import BadInput
from askport.core.kinds.placeholders import fill
from askport.core.plan import checks, site_plan, target
from askport.core.plan.address_map import ROW, KnownAddresses, map_rows
from askport.core.plan.changes import changes
from askport.core.plan.checks import check_plan
from askport.core.plan.importing import import_rows
from askport.core.plan.planned_device import PlannedDevice, Range
from askport.edges.tables import read_tables
from askport.reports.cells import as_meant, cell
from askport.reports.plan_document import csv_text, device_rows, subnet_rows, workbook
from conftest import askport, askport_in_bounds

SITE = site_plan.Subnet(
    network=IPv4Network("10.84.16.0/22"), gateway=IPv4Address("10.84.19.254"), dns=(IPv4Address("10.84.19.253"),),
    pools=(Range(first=IPv4Address("10.84.18.0"), last=IPv4Address("10.84.18.255")),),
    reserved=(Range(first=IPv4Address("10.84.17.0"), last=IPv4Address("10.84.17.9")),), vlan=20,
)  # fmt: skip


@pytest.mark.parametrize(
    ("made", "said"),
    [
        ('Tag;IP\nA-1;"10.84.16.9\n' + "B-1;10.84.16.10\n" * 80, "line 2: a quotation mark opens there"),
        ("Tag;IP\n" + "".join(f"A-{n};next\n" for n in range(60_000)), "more than 50,000 rows"),
        ("Tag;IP\nA-1;next in 10.0.0.0/31\n", "has no address to choose"),
        ("Network;VLAN\n10.0.0.0/24;\u00b2\n", "is not a VLAN"),
        ("Network;Pool\n10.0.0.0/24;10.0.0.\u00e0-10.0.0.9\n", "line 2"),
        ("Tag;IP\nA-1;" + "9" * 5_000 + ".0.0.1\n", "line 2"),
        ("Nr;Code;IP\n1;x;10.0.0.1\n2;y;10.0.0.2\n", "add one of --map 'Nr=tag' and --map 'Code=tag'"),
    ],
)
def test_a_hostile_table_is_one_sentence(tmp_path, made, said):
    (tmp_path / "plan.csv").write_text(made)
    run = askport_in_bounds("plan", "import", tmp_path / "plan.csv", "--job", tmp_path / "x.askport")
    assert (run.returncode, said in run.stderr) == (2, True), run.stderr[-600:]


@pytest.mark.by_day(0)
@pytest.mark.parametrize("reference", ["XFD1048576", "A1"])
def test_a_spreadsheet_that_would_fill_the_memory_is_refused_first(tmp_path, reference):
    path = tmp_path / "plan.xlsx"
    path.write_bytes(workbook([("plan", [["Tag", "IP"], ["A-1", "10.0.0.1"]])]))
    with zipfile.ZipFile(path) as packed:
        parts = {each.filename: packed.read(each) for each in packed.infolist()}
    sheet = "xl/worksheets/sheet1.xml"
    text = b"x" * 1_000 if reference != "A1" else b"x" * 160_000_000
    cell = f'<row r="1048576"><c r="{reference}" t="inlineStr"><is><t>'.encode() + text + b"</t></is></c></row>"
    parts[sheet] = parts[sheet].replace(b"</sheetData>", cell + b"</sheetData>")
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as packed:
        for name, data in parts.items():
            packed.writestr(name, data)
    run = askport_in_bounds("plan", "import", path, "--job", tmp_path / "x.askport")
    assert run.returncode == 2
    assert "far from all others" in run.stderr or "unpacks to more than" in run.stderr, run.stderr


def test_a_table_with_fewer_columns_keeps_what_it_has_no_column_for(tmp_path):
    job = tmp_path / "x.askport"
    for text in ("Tag;IP;Prefix;Place;Item\nA-1;10.0.0.5;24;Roof;7.3\n", "Unit label;IP\nA-1;10.0.0.6\n"):
        (tmp_path / "plan.csv").write_text(text)
        assert askport("plan", "import", tmp_path / "plan.csv", "--job", job).returncode == 0
    (device_,) = json.loads(askport("plan", "show", job, "--json").stdout)["devices"]
    kept = (device_["address"], device_["place"], device_["prefix"], device_["columns"])
    assert kept == ("10.0.0.6", "Roof", 24, {"Item": "7.3"})


def spreadsheet(path):
    book = xlsxwriter.Workbook(path)
    sheet = book.add_worksheet("Plan")
    sheet.merge_range(0, 0, 0, 4, "Sallow Beck Hatchery")
    sheet.write(1, 0, "Rev. 4")
    sheet.write_row(3, 0, ["Tag", "Location", "MAC", "IP address", "Mask", "Rack"])
    sheet.merge_range(4, 1, 7, 1, "tank hall")
    macs = ["00:00:5e:00:53:10", "00-00-5E-00-53-20", "0000.5e00.5341", "00005E005350"]
    for line, mac in enumerate(macs):
        sheet.write_row(4 + line, 0, [f"D-{line}"])
        sheet.write_row(4 + line, 2, [mac, f"10.84.16.{40 + line}", 22, 7 + line])
    book.close()


ODS = """<?xml version="1.0"?><office:document-content xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0"
 xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0"
 xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0"
 office:version="1.2"><office:body><office:spreadsheet><table:table table:name="A">ROWS</table:table>
</office:spreadsheet></office:body></office:document-content>"""


def ods(path):
    rows = [["tag", "address", "place"], ["D-0", "10.84.16.40/22", "keller"], ["D-1", "10.84.16.41/22", "dach"]]
    text = "".join(
        "<table:table-row>"
        + "".join(
            f'<table:table-cell office:value-type="string"><text:p>{each}</text:p></table:table-cell>' for each in row
        )
        + "</table:table-row>"
        for row in rows
    )
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("mimetype", "application/vnd.oasis.opendocument.spreadsheet")
        archive.writestr("content.xml", ODS.replace("ROWS", text))
        archive.writestr("META-INF/manifest.xml", "<manifest/>")


WINDOWS = "Gerät;Standort;IP-Adresse;Maske;Standardgateway\r\nSüd;Halle;10.84.16.40;255.255.252.0;10.84.19.254\r\n"
FRENCH = "Repère\tEmplacement\tAdresse IP\tMasque\tPasserelle par défaut\nTG-01\tcave\t10.84.16.40\t/22\t10.84.19.254\n"
GERMAN = "BMK\tRaum\tIP-Adresse\tPräfix\tGateway\nTG-01\tKeller\t10.84.16.40\t22\t10.84.19.254\n"
FILES = {
    "windows.csv": (WINDOWS.encode("cp1252"), "Windows-1252 with semicolons", ["Süd 10.84.16.40/22 Halle"]),
    "bom.csv": (b"\xef\xbb\xbf" + b'"Tag","IP","Prefix","Place"\n"A, B","10.84.16.40","22","x"\n', "UTF-8 with commas",
                ["A, B 10.84.16.40/22 x"]),
    "spreadsheet.txt": ("tag\tip\tmask\nTG-01\t10.84.16.40\t22\n".encode("utf-16"), "UTF-16 with tabs",
                        ["TG-01 10.84.16.40/22 "]),
    "sheet.xlsx": (spreadsheet, "sheet 'Plan'", [f"D-{n} 10.84.16.{40 + n}/22 tank hall" for n in range(4)]),
    "sheet.ods": (ods, "sheet 'A'", ["D-0 10.84.16.40/22 keller", "D-1 10.84.16.41/22 dach"]),
    "french.tsv": (FRENCH.encode(), "UTF-8 with tabs", ["TG-01 10.84.16.40/22 cave"]),
    "german.tsv": (GERMAN.encode(), "UTF-8 with tabs", ["TG-01 10.84.16.40/22 Keller"]),
    "said.csv": (b"sep=;\nlist of devices;;\n\ntag;ip;mask\nTG-01;10.84.16.40;22\n", "UTF-8 with semicolons",
                 ["TG-01 10.84.16.40/22 "]),
}  # fmt: skip


@pytest.mark.parametrize(
    ("rows", "tags", "said"),
    [
        (["P-101;Pumpe", "P-102;Ventil"], ["P-101", "P-102"], ""),
        (["P-101;Pumpe", "P-102;Pumpe"], ["P-101", "P-102"], ""),
        (["1;TG-01", "2;TG-02"], ["TG-01", "TG-02"], ""),  # these are numbers of rows
        (["7;Pumpe", "12;Ventil"], ["12", "7"], ""),
        (["P-101;Pumpe", "P-101;Ventil"], [], "P-101"),  # given twice: nothing is imported
    ],
)
def test_the_number_beside_a_name_is_the_tag_unless_it_counts_the_rows(tmp_path, rows, tags, said):
    plan, job = tmp_path / "plan.csv", tmp_path / "job.askport"
    lines = [f"{row};10.84.16.{40 + number};255.255.252.0" for number, row in enumerate(rows)]
    plan.write_text("\n".join(["Nr;Bezeichnung;IP-Adresse;Maske", *lines]))
    run = askport("plan", "import", plan, "--job", job, "--new-subnet")
    assert (run.returncode, said in run.stderr) == (0 if tags else 2, True), run
    if tags:
        devices = json.loads(askport("plan", "show", job, "--json").stdout)["devices"]
        assert sorted(each["tag"] for each in devices) == tags


@pytest.mark.parametrize("name", FILES)
def test_files_are_read_as_people_make_them(tmp_path, name):
    made, read_as, devices = FILES[name]
    path = tmp_path / name
    made(path) if callable(made) else path.write_bytes(made)
    table = read_tables(path)[0]
    imported = import_rows(table.rows)
    assert table.read_as == read_as
    assert [f"{each.tag} {each.address}/{each.prefix} {each.place}" for each in imported.devices] == devices
    assert imported.bad == []
    assert [str(each.network) for each in imported.subnets] == ["10.84.16.0/22"]
    if name == "sheet.xlsx":
        assert [str(each.mac)[-2:] for each in imported.devices] == ["10", "20", "41", "50"]
        assert imported.devices[0].columns == {"Rack": "7"}


BAD = [
    (["", "10.84.16.41", "22", ""], "It has no tag: give it one."),
    (["B", "10.84.16.300", "22", ""], "its part 300 is over 255"),
    (["B", "10.84.16.41", "255.0.255.0", ""], "ones not in one piece"),
    (["B", "10.84.16.41", "33", ""], "not a prefix length: write one from 1 to 32"),
    (["B", "10.84.16.41/24", "22", ""], "two prefixes, /24 at its address and /22 beside it"),
    (["B", "010.084.016.041", "22", ""], "zero-padded octet"),
    (["B", "10.84.16.41", "22", "00:00:5e:00:53"], "MAC address"),
    (["A", "10.84.16.41", "22", ""], "The tag A stands in line 2 already"),
    (["B", "10.84.16.50-10.84.16.41", "22", ""], "ends before it begins"),
]


@pytest.mark.parametrize(("row", "said"), BAD)
def test_each_bad_row_is_named_with_its_line_and_the_others_go_in_or_nothing(tmp_path, row, said):
    rows = [["tag", "ip", "mask", "mac"], ["A", "10.84.16.40", "22", ""], row, ["C", "10.84.16.42", "22", ""]]
    imported = import_rows(rows)
    assert [each.tag for each in imported.devices] == ["A", "C"]
    assert [(each.line, said in each.sentence) for each in imported.bad] == [(3, True)], imported.bad
    file, job = tmp_path / "plan.csv", tmp_path / "x.askport"
    file.write_text("\n".join(";".join(each) for each in rows))
    run = askport("plan", "import", file, "--job", job)
    assert (run.returncode, "line 3: " in run.stderr, "Nothing was imported" in run.stderr) == (2, True, True)
    assert not job.exists()
    assert "2 devices and 1 subnet planned" in askport("plan", "import", file, "--job", job, "--skip-bad").stdout


@pytest.mark.parametrize(
    ("rows", "mapped", "said"),
    [
        ([["x", "y"], ["1", "2"]], {}, "No row of it heads its columns: 'x' and 'y' stand first"),
        ([["tag", "y"]], {"z": "mac"}, "names the column 'z', which is not there: there are 'tag' and 'y'"),
        ([["tag", "y"]], {"y": "mak"}, "names the field 'mak': the fields are tag, place"),
    ],
)
def test_heads_that_nobody_knows_are_asked_for(rows, mapped, said):
    with pytest.raises(BadInput) as refused:
        import_rows(rows, mapped)
    assert said in refused.value.message


def test_columns_are_mapped_and_the_rest_is_carried_along_to_where_it_is_typed():
    rows = [["Nr", "Zieladresse", "Kabel Nr."], ["TG-01", "10.84.16.40/22", "W12"]]
    device = import_rows(rows, {"Nr": "tag", "Zieladresse": "address"}).devices[0]
    assert (device.tag, str(device.address), device.columns) == ("TG-01", "10.84.16.40", {"Kabel Nr.": "W12"})
    values = {f"plan.{head}": text for head, text in device.columns.items()}
    assert fill("location {plan.Kabel Nr.}", values) == "location W12"


words = st.text(st.characters(exclude_categories=["C", "Z"]), min_size=1, max_size=12).filter(
    lambda text: as_meant(text) == text and text == " ".join(text.split())
)
addresses = st.integers(1, 1000).map(lambda number: IPv4Address(int(IPv4Address("10.84.16.0")) + number))
devices = st.lists(
    st.builds(
        PlannedDevice, tag=words, place=words, kind=words, address=addresses, prefix=st.just(22),
        gateway=st.sampled_from([None, IPv4Address("10.84.19.254")]), dns=st.just((IPv4Address("10.84.19.253"),)),
        columns=st.dictionaries(st.sampled_from(["Rack", "Cable 7"]), words),
    ),
    unique_by=lambda each: each.tag, min_size=1, max_size=5,
)  # fmt: skip


@settings(max_examples=40)
@given(devices)
def test_a_plan_comes_back_as_it_went_out(tmp_path_factory, planned):
    plan = site_plan.Plan(subnets=(SITE,), devices=tuple(planned))
    folder = tmp_path_factory.mktemp("out")
    book, text = folder / "o.xlsx", folder / "o.csv"
    book.write_bytes(workbook([("devices", device_rows(plan)), ("subnets", subnet_rows(plan))]))
    text.write_text(csv_text(device_rows(plan)), encoding="utf-8", newline="")
    for path in (book, text):
        tables = [import_rows([[as_meant(each) for each in row] for row in table.rows]) for table in read_tables(path)]
        assert not any(table.bad for table in tables)
        assert tuple(tables[0].devices) == plan.devices
    assert tuple(import_rows(subnet_rows(plan)).subnets) == plan.subnets
    assert changes(plan, tables) == []


@pytest.mark.parametrize("text", ["=1+1", "'x", "@now", "-5", " +1"])
def test_a_cell_is_harmless_and_means_what_it_meant(text):
    assert cell(text)[0] == "'"
    assert as_meant(cell(text)) == text


def device(tag, address, **more):
    return PlannedDevice(tag=tag, address=IPv4Address(address), **more)


OX = [device(f"OX-0{number}", f"10.84.16.3{number}") for number in (1, 2, 3)]
OTHER = site_plan.Subnet(network=IPv4Network("10.84.18.0/24"), gateway=IPv4Address("10.84.18.1"))


@pytest.mark.parametrize(
    ("subnets", "planned", "said"),
    [
        ([SITE], OX, None),
        ([SITE], [device("A", "10.84.16.40"), device("B", "10.84.16.40")], "A and B are all to be 10.84.16.40"),
        (
            [SITE],
            [device("A", "10.84.16.40", mac="00:00:5e:00:53:10"), device("B", "10.84.16.41", mac="00005e005310")],
            "A and B have the same label 00:00:5e:00:53:10",
        ),
        ([SITE], [device("A", "10.84.61.40")], "A: 10.84.61.40 lies in no subnet of the plan"),
        ([SITE], [device("A", "10.84.61.40", prefix=22)], "Was 10.84.16.40 meant (digits swapped)?"),
        ([SITE], [device("A", "10.84.18.7")], "A: 10.84.18.7 lies in the DHCP pool 10.84.18.0 to 10.84.18.255"),
        ([SITE], [device("A", "10.84.17.7")], "A: 10.84.17.7 lies in the reserved range 10.84.17.0 to 10.84.17.9"),
        ([SITE], [device("A", "10.84.19.255")], "it is the broadcast address"),
        ([SITE], [device("A", "10.84.19.254")], "A: 10.84.19.254 is the site's gateway"),
        ([SITE], [device("A", "10.84.19.253")], "is the DNS server: the device cannot have it"),
        ([SITE], [device("A", "10.84.16.40", gateway=IPv4Address("10.84.91.254"))], "outside the subnet 10.84.16.0/22"),
        ([SITE, OTHER], [], "The subnets 10.84.16.0/22 and 10.84.18.0/24 overlap"),
        (
            [OTHER.model_copy(update={"gateway": IPv4Address("10.9.9.9")})],
            [],
            "has the gateway 10.9.9.9, which is outside",
        ),
        ([OTHER.model_copy(update={"gateway": None})], [], "has no gateway"),
        (
            [SITE],
            [*OX, device("OX-04", "10.84.16.43")],
            "the other OX-… count on with their number: was 10.84.16.34 meant?",
        ),
        ([SITE], [PlannedDevice(tag="A", within=SITE.pools[0])], "A: nothing is left of 10.84.18.0 to 10.84.18.255"),
    ],
)
def test_a_plan_is_checked_and_both_sides_are_named(subnets, planned, said):
    found = check_plan(site_plan.Plan(subnets=tuple(subnets), devices=tuple(planned)))
    assert [each.sentence for each in found if not said] == []
    assert not said or any(said in each.sentence for each in found), found


def test_an_import_after_a_change_says_what_differs_and_a_job_goes_on_where_it_stopped(tmp_path):
    file, job = tmp_path / "plan.csv", tmp_path / "site.askport"
    file.write_text("tag;ip;mask;rack\nTG-01;10.84.16.40;22;7\nOX-01;10.84.16.31;22;8\nOX-02;next in 10.84.16.0/22;;\n")
    assert askport("plan", "import", file, "--job", job).returncode == 0
    file.write_text("tag;ip;mask;rack\nTG-01;10.84.16.41;22;9\nOX-02;next in 10.84.16.0/22;;\n")
    dry = askport("plan", "import", file, "--job", job, "--dry-run").stdout
    assert "TG-01: address 10.84.16.40 becomes 10.84.16.41; rack 7 becomes 9." in dry
    assert "OX-01 is not in the file: it stays planned." in dry
    shown = json.loads(askport("plan", "show", job, "--json").stdout)
    assert [(each["tag"], each["address"], each["state"]) for each in shown["devices"]] == [
        ("TG-01", "10.84.16.40", "planned"), ("OX-01", "10.84.16.31", "planned"), ("OX-02", None, "planned"),
    ]  # fmt: skip
    assert shown["devices"][0]["columns"] == {"rack": "7"}
    askport("plan", "import", file, "--job", job, "--remove-missing")
    assert "TG-01  10.84.16.41/22" in askport("plan", "next", job).stdout
    assert askport("plan", "subnet", job, "10.84.16.0/22", "--pool", "10.84.16.41-10.84.16.50").returncode == 0
    run = askport("plan", "check", job)
    assert (run.returncode, "TG-01: 10.84.16.41 lies in the DHCP pool" in run.stdout) == (1, True)


def test_the_sheet_for_the_it_department_comes_back_filled_in(tmp_path):
    file, job, sheet = tmp_path / "plan.csv", tmp_path / "site.askport", tmp_path / "request.xlsx"
    file.write_text("tag;mac\nTG-01;00:00:5e:00:53:10\nOX-01;00:00:5e:00:53:41\n")
    askport("plan", "import", file, "--job", job)
    assert askport("plan", "request", job, "--out", sheet).returncode == 0
    devices_, subnets_, asked = (table.rows for table in read_tables(sheet))
    assert any("Which fixed addresses do these get" in each[0] for each in asked)
    devices_[1][devices_[0].index("address")] = "10.84.16.40"
    devices_[2][devices_[0].index("address")] = "10.84.16.31"
    subnets_[1][:4] = ["10.84.16.0/22", "10.84.19.254", "10.84.19.253", "10.84.18.0-10.84.18.255"]
    sheet.write_bytes(workbook([("devices", devices_), ("subnets", subnets_)]))
    assert askport("plan", "import", sheet, "--job", job).returncode == 0
    shown = json.loads(askport("plan", "show", job, "--json").stdout)
    assert [(each["address"], each["prefix"], each["gateway"]) for each in shown["devices"]] == [
        ("10.84.16.40", 22, "10.84.19.254"), ("10.84.16.31", 22, "10.84.19.254"),
    ]  # fmt: skip
    paper = tmp_path / "request.pdf"
    assert askport("plan", "request", job, "--out", paper).returncode == 0
    assert paper.read_bytes().startswith(b"%PDF")


@given(
    st.lists(st.tuples(st.integers(0, 1023), st.sampled_from([None, 22, 24]), st.integers(0, 3)), max_size=12),
    st.booleans(),
)
def test_what_is_passed_over_as_plain_has_no_finding(devices, overlaps):
    """A large plan is checked in a moment, because most of it is plainly sound; that never hides anything."""
    start = int(IPv4Address("10.84.16.0"))
    subnets = [SITE, *([SITE.model_copy(update={"network": IPv4Network("10.84.18.0/24")})] if overlaps else [])]
    gateways = [None, SITE.gateway, IPv4Address("10.84.16.9"), IPv4Address("10.9.9.9")]
    plan = site_plan.Plan(
        subnets=tuple(subnets),
        devices=tuple(
            PlannedDevice(tag=f"D-{place}", address=IPv4Address(start + number), prefix=prefix, gateway=gateways[which])
            for place, (number, prefix, which) in enumerate(devices)
        ),
    )
    found = check_plan(plan)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(checks._Plain, "__contains__", lambda *_: False)
        assert check_plan(plan) == found


ROWS = """tag,mac,address,prefix,gateway
A,00:00:5e:00:53:10,10.84.16.1,22,10.84.19.254
B,00:00:5e:00:53:11,10.84.16.1,22,10.84.19.254
C,00:00:5e:00:53:10,10.84.16.3,22,10.84.19.254
D,,10.84.16.4,22,10.84.91.254
"""


def test_rows_that_cannot_be_right_are_bad_and_named_by_line(tmp_path):
    """Beside another row, in a subnet that does not hold its gateway, or where nothing is planned."""
    job, sheet = tmp_path / "site.askport", tmp_path / "devices.csv"
    sheet.write_text(ROWS)
    run = askport("plan", "import", sheet, "--job", job)
    assert (run.returncode, job.exists()) == (2, False)
    for line, why in (
        (3, "10.84.16.1 is that of A, line 2"), (4, "00:00:5e:00:53:10 is that of A, line 2"),
        (5, "its gateway 10.84.91.254 lies outside its subnet 10.84.16.0/22"),
    ):  # fmt: skip
        assert any(f"line {line}: " in each and why in each for each in run.stderr.splitlines()), run.stderr
    assert askport("plan", "import", sheet, "--job", job, "--skip-bad").returncode == 0
    shown = json.loads(askport("plan", "show", job, "--json").stdout)
    assert [each["tag"] for each in shown["devices"]] == ["A"]
    assert [each["network"] for each in shown["subnets"]] == ["10.84.16.0/22"]
    sheet.write_text("tag,address,prefix\nE,10.84.16.1,22\nF,10.9.9.9,24\n")
    run = askport("plan", "import", sheet, "--job", job, "--new-subnet")
    assert (run.returncode, "10.84.16.1 is that of A, which is planned" in run.stderr) == (2, True)
    sheet.write_text("tag,address,prefix\nA,10.84.16.1,22\nF,10.9.9.9,24\n")
    run = askport("plan", "import", sheet, "--job", job)
    assert (run.returncode, "line 3: F: 10.9.9.9 lies in no subnet of the plan" in run.stderr) == (2, True)
    assert askport("plan", "import", sheet, "--job", job, "--new-subnet").returncode == 0
    shown = json.loads(askport("plan", "show", job, "--json").stdout)
    assert [each["network"] for each in shown["subnets"]] == ["10.84.16.0/22", "10.9.9.0/24"]


@given(st.sampled_from((8, 20, 21, 24, 30)), st.lists(st.integers(0, 2**24 - 1), max_size=4))
def test_a_map_has_every_address_once_and_of_a_wide_subnet_only_the_rows_that_have_something(prefix, hosts):
    site = target.Site(name="", network=IPv4Network((0x0A000000, prefix)))
    planned = {address: ("T",) for each in hosts if (address := IPv4Address(0x0A000000 + each)) in site.network}
    at, rows = int(site.network.network_address), map_rows(site, KnownAddresses(planned=planned, states={}))
    assert len(rows) <= 2 * len(hosts) + 17
    for row in rows:
        assert int(row.first) == at
        assert not row.skipped or not any(at <= int(each) < at + row.skipped * ROW for each in planned)
        at += row.skipped * ROW or len(row.cells)
    assert at == int(site.network.broadcast_address) + 1
