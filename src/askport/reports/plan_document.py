"""The plan as tables: out as it came in, and the sheet that the IT department fills in."""

import csv
import io
from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import Any

from askport.core.phrases import phrase
from askport.core.plan import planned_device, site_plan
from askport.reports.cells import cell

_DEVICE_HEADS = ("tag", "place", "kind", "mac", "address", "prefix", "gateway", "dns")
_SUBNET_HEADS = ("network", "gateway", "dns", "pool", "reserved", "vlan")
Rows = list[list[str]]


def plan_json(plan: site_plan.Plan, states: dict[str, str]) -> dict[str, Any]:
    """Return the plan as a document; ``states`` says of tags how far they are."""
    devices = []
    for device in plan.devices:
        target = plan.target_of(device)
        devices.append(
            {
                "tag": device.tag,
                "place": device.place,
                "kind": device.kind,
                "mac": str(device.mac) if device.mac else None,
                "address": str(device.address) if device.address else None,
                "within": str(device.within) if device.within else None,
                "prefix": target.interface.network.prefixlen if target else device.prefix,
                "gateway": str(target.gateway) if target and target.gateway else None,
                "dns": [str(each) for each in (target.dns if target else device.dns or ())],
                "state": states.get(device.tag, "planned"),
                "columns": device.columns,
            }
        )
    subnets = [
        {
            "network": str(each.network),
            "gateway": str(each.gateway) if each.gateway else None,
            "dns": [str(server) for server in each.dns],
            "pools": [[str(pool.first), str(pool.last)] for pool in each.pools],
            "reserved": [[str(kept.first), str(kept.last)] for kept in each.reserved],
            "vlan": each.vlan,
        }
        for each in plan.subnets
    ]
    return {"schema": "askport.plan/1", "subnets": subnets, "devices": devices}


def device_rows(plan: site_plan.Plan) -> Rows:
    """Return the devices as a table with its heads, whatever else they had behind them."""
    others = list(dict.fromkeys(head for device in plan.devices for head in device.columns))
    rows = ([*_device_cells(each), *(each.columns.get(head, "") for head in others)] for each in plan.devices)
    return [[*_DEVICE_HEADS, *others], *rows]


def _device_cells(device: planned_device.PlannedDevice) -> list[str]:
    address = _range(device.within) if device.within else device.address
    values = (
        device.tag,
        device.place,
        device.kind,
        device.mac,
        address,
        device.prefix,
        device.gateway,
        " ".join(map(str, device.dns or ())),
    )
    return ["" if each is None else str(each) for each in values]


def subnet_rows(plan: site_plan.Plan) -> Rows:
    """Return the subnets as a table with its heads."""
    return [[*_SUBNET_HEADS], *(_subnet_cells(each) for each in plan.subnets)]


def _subnet_cells(subnet: site_plan.Subnet) -> list[str]:
    pools, reserved = (", ".join(_range(each) for each in ranges) for ranges in (subnet.pools, subnet.reserved))
    dns = " ".join(map(str, subnet.dns))
    values = (subnet.network, subnet.gateway, dns, pools, reserved, subnet.vlan)
    return ["" if each is None else str(each) for each in values]


def _range(each: planned_device.Range) -> str:
    return f"{each.first}-{each.last}"


def csv_text(rows: Iterable[Sequence[str]]) -> str:
    """Return a table as CSV (RFC 4180) that no spreadsheet runs, with the mark by which they know UTF-8."""
    out = io.StringIO()
    csv.writer(out, lineterminator="\r\n").writerows([[cell(each) for each in row] for row in rows])
    return "\ufeff" + out.getvalue()


_MADE = datetime(2000, 1, 1)


def workbook(sheets: Sequence[tuple[str, Rows]], notes: Sequence[str] = ()) -> bytes:
    """Return tables as XLSX, every cell a text; notes stand on a sheet of their own."""
    import xlsxwriter

    out = io.BytesIO()
    book = xlsxwriter.Workbook(out, {"in_memory": True})
    book.set_properties({"created": _MADE})
    head = book.add_format({"bold": True, "bottom": 1})
    for title, rows in sheets:
        sheet = book.add_worksheet(title)
        for line, row in enumerate(rows):
            for place, text in enumerate(row):
                sheet.write_string(line, place, text, head if line == 0 else None)
        sheet.freeze_panes(1, 0)
        if rows:
            sheet.autofilter(0, 0, len(rows) - 1, max(len(rows[0]) - 1, 0))
        sheet.autofit()
    if notes:
        sheet = book.add_worksheet("questions")
        sheet.set_column(0, 0, 110)
        for line, text in enumerate(notes):
            sheet.write_string(line, 0, text)
    book.close()
    return out.getvalue()


def request_sheets(plan: site_plan.Plan) -> tuple[list[tuple[str, Rows]], list[str]]:
    """Return what the IT department is asked for: tables to fill in, and the questions that are open."""
    devices = device_rows(plan)
    subnets = subnet_rows(plan)
    if not plan.subnets:
        subnets.append([""] * len(_SUBNET_HEADS))
    return [("devices", devices), ("subnets", subnets)], questions(plan)


def questions(plan: site_plan.Plan) -> list[str]:
    """Return what is not known yet, as questions."""
    without = [each.tag for each in plan.devices if each.address is None]
    unlabelled = [each.tag for each in plan.devices if each.mac is None]
    asked = [
        phrase(
            "{count} devices are to join the site; {count_2} of them have no address yet.",
            count=len(plan.devices),
            count_2=len(without),
        )
    ]
    if without:
        asked.append(
            phrase("Which fixed addresses do these get, outside every pool: {without}?", without=", ".join(without))
        )
    if unlabelled:
        asked.append(
            phrase("The MAC addresses of {count} of them are read from their labels on site.", count=len(unlabelled))
        )
    if not plan.subnets:
        asked.append(
            phrase("Which subnet, mask, gateway, DNS servers and VLAN are they in? Fill in the sheet 'subnets'.")
        )
    for subnet in plan.subnets:
        open_ = [
            name
            for name, value in (
                ("gateway", subnet.gateway),
                (phrase("DNS servers"), subnet.dns),
                (phrase("the DHCP range"), subnet.pools),
                ("VLAN", subnet.vlan),
            )
            if not value
        ]
        if open_:
            asked.append(phrase("{network}: please fill in {open}.", network=subnet.network, open=", ".join(open_)))
    asked.append(phrase("Please fill in the empty cells and return the file. Do not change its layout."))
    return asked
