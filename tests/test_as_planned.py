"""A device is proven with the values that the plan has for it now: on map, plan, register, watch view and cover."""

import json
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address, IPv4Interface

import pytest

from askport.core.addresses import MacAddress
from askport.core.register.as_left import AsLeft, Basis, Value
from askport.core.register.entries import Found, Left, Proved, Recorded, WasSet
from askport.edges.jobfile import JobFile
from askport.reports.documents import Papers
from askport.reports.open_points import counted, open_points
from conftest import askport

IT, AT = MacAddress.parse("02:00:00:00:00:01"), datetime(2026, 12, 1, 8, tzinfo=UTC)
PLAN = "tag,address,mask,gateway\nTG-01,10.84.16.40,255.255.252.0,10.84.19.254\nTG-02,10.84.16.41,22,10.84.19.254\n"


def proven(job, *, gateway="10.84.19.254", unit=1, at=AT, names=("same-mac", "mask", "gateway", "power-cycle")):
    """Write down a visit in which a device was set and proven."""
    it = {"unit": unit, "mac": IT}
    left = AsLeft(
        address=Value(value=IPv4Address("10.84.16.40"), basis=Basis.MEASURED),
        prefix=Value(value=22, basis=Basis.MEASURED),
        gateway=Value(value=IPv4Address(gateway) if gateway else None, basis=Basis.MEASURED if gateway else None),
    )
    proofs = [Proved(**it, name=name, expected="", measured="", passed=True, because="") for name in names]
    found = Found(**it, tag="TG-01", maker=None, address=None, belief="asks", asks_by="dhcp", because=())
    set_ = WasSet(**it, way="dhcp", result="taken", because="", interface=IPv4Interface("10.84.16.40/22"),
                  gateway=None, dns=(), permanent=True, gives=True)  # fmt: skip
    job.append_all([found, set_, Left(**it, as_left=left), *proofs, Recorded(**it)], at)


def everywhere(path):
    """Return what is said of TG-01 on the map, in the plan, the register, the watch view and on the cover."""
    with_job = JobFile(path, create=False)
    try:
        rows, plan, register = with_job.checked(), with_job.register.plan("site"), with_job.register
        papers = Papers(rows, plan, "")
        points = {each.heading: " ".join(each.lines) for each in open_points(rows, plan)}
        seen = {
            "map": papers.known.states.get("TG-01", "planned"), "watch": register.states().get("TG-01", "planned"),
            "counted": (register.proven(), counted(rows)),
        }  # fmt: skip
    finally:
        with_job.close()
    shown = json.loads(askport("plan", "show", path, "--json").stdout)["devices"][0]["state"]
    listed = {
        each["tag"]: each["state"] for each in json.loads(askport("register", "list", path, "--json").stdout)["devices"]
    }
    return {**seen, "plan": shown, "register": listed, "cover": points}


def begin(tmp_path, **options):
    path = tmp_path / "site.askport"
    (tmp_path / "plan.csv").write_text(PLAN)
    assert askport("plan", "import", tmp_path / "plan.csv", "--job", path).returncode == 0
    job = JobFile(path, create=False)
    proven(job, **options)
    job.close()
    return path


def test_what_was_proven_as_planned_is_proven(tmp_path):
    told = everywhere(begin(tmp_path))
    assert (told["map"], told["watch"], told["plan"], told["register"]) == ("proven",) * 3 + ({"TG-01": "proven"},)
    assert told["counted"] == ((1, 1, 0),) * 2
    assert "Not as planned" not in told["cover"]


@pytest.mark.parametrize(
    ("how", "said"),
    [
        ("tag", "TG-02: address 10.84.16.41 planned, left with 10.84.16.40"),
        ("plan", "TG-01: mask 21 planned, left with 22"),
        ("other values", "TG-01: gateway 10.84.19.254 planned, left with 10.84.16.1"),
        ("no gateway", "TG-01: gateway 10.84.19.254 planned, not shown"),
        ("servers", "TG-01: DNS servers 10.84.19.253 planned, left with none"),
    ],
)
def test_what_nobody_proved_is_proven_nowhere(tmp_path, how, said):
    gateway = {"other values": "10.84.16.1", "no gateway": None}.get(how, "10.84.19.254")
    names = (
        ("same-mac", "mask", "power-cycle") if how == "no gateway" else ("same-mac", "mask", "gateway", "power-cycle")
    )
    path = begin(tmp_path, gateway=gateway, names=names)
    if how == "tag":
        assert askport("register", "tag", path, "TG-01", "TG-02").returncode == 0
    elif how in ("plan", "servers"):
        changed = PLAN.replace("255.255.252.0", "255.255.248.0")
        if how == "servers":
            changed = "\n".join(f"{line},{'dns' if not at else '10.84.19.253'}" for at, line in enumerate(PLAN.split()))
        (tmp_path / "plan.csv").write_text(changed)
        assert askport("plan", "import", tmp_path / "plan.csv", "--job", path).returncode == 0
    told = everywhere(path)
    tag = said.partition(":")[0]
    assert "proven" not in (told["map"], told["watch"], told["plan"]), told
    assert told["register"] == {tag: "unproven"}
    assert told["counted"] == ((0, 1, 0),) * 2
    assert next(iter(told["cover"])) == "Not as planned"
    assert said in told["cover"]["Not as planned"]
    assert "Not proven" not in told["cover"], "it is named once"


@pytest.mark.parametrize("then", ["left in mid-proof", "set to something else", "reopened", "reopened and recorded"])
def test_the_last_whole_visit_stands_and_what_was_reopened_is_proven_anew(tmp_path, then):
    path, later = begin(tmp_path), AT + timedelta(hours=1)
    it = {"unit": 2, "mac": IT}
    job = JobFile(path, create=False)
    if then.startswith("reopened"):
        job.close()
        assert askport("register", "reopen", path, "TG-01", "--because", "wrong pump").returncode == 0
        job = JobFile(path, create=False)
        if then == "reopened and recorded":
            job.append_all([Recorded(unit=1, mac=IT)], later)
    else:
        found = Found(**it, tag="TG-01", maker=None, address=IPv4Address("10.84.16.40"), belief="certain", because=())
        more = [Proved(**it, name="same-mac", expected="", measured="", passed=True, because="")]
        if then == "set to something else":
            more = [WasSet(**it, way="hand", result="taken", because="", interface=IPv4Interface("10.84.16.99/22"),
                           gateway=None, dns=(), permanent=None, gives=False)]  # fmt: skip
        job.append_all([found, *more], later)
    row = job.checked()[0]
    job.close()
    told = everywhere(path)
    stands = {"left in mid-proof": "proven", "set to something else": "set", "reopened": "set"}.get(then, "unproven")
    assert (row.state, told["watch"], told["register"]) == (stands, stands, {"TG-01": stands})
    assert ("TG-01" in told["cover"].get("Begun again and not finished", "")) is (then == "left in mid-proof")


def test_both_verdicts_of_a_proof_stand_where_they_differ(tmp_path):
    """It passed before its power was cut and failed after it: that is not "failed twice"."""
    path = begin(tmp_path)
    job = JobFile(path, create=False)
    for name, passed in (("mask", False), ("gateway", True)):
        again = Proved(unit=1, mac=IT, name=name, expected="", measured="", passed=passed, because="", after_cut=True)
        job.append_all([again], AT + timedelta(minutes=1))
    last = job.register.rows()[0].last
    job.close()
    told = {name: proof.verdict for name, proof in last.proofs.items()}
    assert told == {"same-mac": "passed", "power-cycle": "passed", "gateway": "passed twice",
                    "mask": "passed, then failed"}  # fmt: skip
    assert everywhere(path)["cover"]["Failed"] == "TG-01: subnet mask"
