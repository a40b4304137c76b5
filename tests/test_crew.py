"""Several technicians on one site: their files meet in a real PostgreSQL, whatever becomes of it and of them."""

import contextlib
import json
import os
import shutil
import sqlite3
import subprocess
import tempfile
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address
from pathlib import Path

import psycopg
import pytest
from hypothesis import given
from hypothesis import strategies as st

from askport.core import addresses, errors
from askport.core.crew.seals import seal
from askport.core.crew.strands import StrandLine, fault_of
from askport.core.plan.planned_device import PlannedDevice
from askport.core.register.as_left import AsLeft, Basis, Value
from askport.core.register.chain import Line, chain_hash
from askport.core.register.entries import DevicePlanned, Found, Left, MemberAccepted, Noted, Recorded, Reopened
from askport.core.register.fold import fold
from askport.edges.crew import job_part, own_key
from askport.edges.crew.server import Server
from askport.edges.jobfile import JobFile
from askport.reports import device_page, register_document
from conftest import askport

WHEN = datetime(2026, 11, 30, 8, 0, tzinfo=UTC)
PLAN = """tag,address,prefix
TG-01,10.84.16.1,22
TG-02,10.84.16.2,22
"""


def recorded(path, tag, number, at=None, address=None):
    """Write one device into a job file, as found and as left, and return its MAC address."""
    mac, unit = addresses.MacAddress(bytes((2, 0, 0, *number.to_bytes(3)))), number * 1000 + hash(str(path)) % 997
    found = Found(unit=unit, tag=tag, mac=mac, maker=None, address=None, belief="asks", asks_by="dhcp", because=())
    left = AsLeft(address=Value(value=IPv4Address(address or f"10.84.16.{number}"), basis=Basis.HEARD))
    at = at or datetime.now(UTC)
    with_job(path, lambda job: job.append_all(
        [found, Left(unit=unit, mac=mac, as_left=left), Recorded(unit=unit, mac=mac)], at))  # fmt: skip
    return mac


def with_job(path, do, *, create=True):
    job = JobFile(path, create=create)
    try:
        return do(job)
    finally:
        job.close()


def heads(path):
    def read(job):
        with job.engine.connect() as connection:
            return job_part.strand_heads(connection)

    return with_job(path, read, create=False)


def tags(path):
    return with_job(path, lambda job: sorted((row.tag, str(row.left), row.last.member) for row in job.register.rows()))


def run(*arguments, status=0):
    done = askport("crew", *arguments)
    assert done.returncode == status, (done.stdout, done.stderr)
    assert "Traceback" not in done.stderr
    return done.stdout + done.stderr


@pytest.fixture
def crew(database, tmp_path):
    """Make a crew with two members, each with a file of their own."""

    def join(files):
        run("create", database.url(), "--site", "Hatchery")
        database.sql("GRANT site_member TO anna, ben, m0, m1")
        database.sql("GRANT site_office TO carla")
        for each in files:
            run("join", database.url(each.stem), "--job", each)
        run("sync", files[0])
        with contextlib.closing(sqlite3.connect(files[0])) as file:  # anna knows ben as if she had come after him
            file.execute("INSERT OR IGNORE INTO accepted SELECT name, key, removed FROM members")
            file.commit()

    return begin_with(database, "joined", tmp_path, join)


def begin_with(database, name, folder, make):
    """Begin with two files, a database and keys that were made once: copies of them, for each test."""
    keys = Path(os.environ["XDG_DATA_HOME"])
    if name not in database.crews:
        kept = database.crews[name] = Path(tempfile.mkdtemp(dir=database.folder.parent))
        make([kept / f"{member}.askport" for member in ("anna", "ben")])
        database.keep(name)
        shutil.copytree(keys, kept / "keys")
    else:
        kept = database.crews[name]
        shutil.copytree(kept / "keys", keys, dirs_exist_ok=True)
    shutil.rmtree(keys / "askport/crews", ignore_errors=True)  # what the office had of the same crew in another test
    database.anew(name)
    return [Path(shutil.copy(kept / f"{member}.askport", folder)) for member in ("anna", "ben")]


def test_what_one_member_records_the_others_have(crew):
    anna, ben = crew
    recorded(anna, "TG-01", 1)
    recorded(ben, "TG-02", 2)
    assert "0 lines came, 3 lines went." in run("sync", anna)
    assert "3 lines came, 3 lines went." in run("sync", ben)
    assert "3 lines came, 0 lines went." in run("sync", anna)
    assert "0 lines came, 0 lines went." in run("sync", ben)
    assert tags(anna) == [("TG-01", "10.84.16.1", ""), ("TG-02", "10.84.16.2", "ben")]
    assert tags(ben) == [("TG-01", "10.84.16.1", "anna"), ("TG-02", "10.84.16.2", "")]
    assert heads(anna) == heads(ben)
    for each in crew:
        done = askport("register", "verify", each)
        assert (done.returncode, "Nothing was changed" in done.stdout) == (0, True), done
    told = json.loads(run("status", anna, "--json"))
    assert (told["waiting"], told["reached"], told["conflicts"]) == (0, True, [])
    assert told["fingerprint"] == json.loads(run("status", "--job", ben, "--json"))["fingerprint"]


def test_the_same_register_comes_of_lines_in_any_order_of_arrival(crew, tmp_path, database):
    """A device is visited by both, and one file hears late of the earlier visit."""
    anna, ben = crew
    recorded(ben, "TG-01", 1, at=WHEN + timedelta(hours=2), address="10.84.16.9")
    run("sync", ben)
    mac = recorded(anna, "TG-01", 1, at=WHEN)
    with_job(anna, lambda job: job.append(Noted(unit=job.register.by_mac(mac).last.unit, mac=mac, text="wet"), WHEN))
    for each in (anna, ben, anna):
        run("sync", each)
    late = tmp_path / "late.askport"
    run("join", database.url("m0"), "--job", late)

    def seen(path):
        row = with_job(path, lambda job: job.register.by_mac(mac))
        notes = [each.text for each in row.notes]
        return [(each.found_at, each.as_left.words(), each.recorded_at) for each in row.visits], row.left, notes

    assert seen(anna) == seen(ben) == seen(late)
    assert len(seen(late)[0]) == 2
    assert str(seen(late)[1]) == "10.84.16.9"
    assert with_job(late, lambda job: job.checked()) is not None


def plan(path, description, at=None):
    entry = DevicePlanned(device=PlannedDevice(tag="TG-01", address=IPv4Address("10.84.16.1"), place=description))
    with_job(path, lambda job: job.append(entry, at or datetime.now(UTC)))


def synced(*paths):
    for each in paths:
        run("sync", each)


def open_ones(path):
    return " ".join(with_job(path, lambda job: job.register.open_conflicts(), create=False))


@pytest.mark.by_day(0)
@pytest.mark.parametrize("off", [timedelta(days=400), timedelta(days=-400)], ids=["ahead", "behind"])
def test_a_clock_that_is_wrong_decides_nothing_and_is_named(crew, off):
    """Of the plan, of a visit and of what is reopened, what was made upon the other stands, whatever its date."""
    anna, ben = crew
    now = datetime.now(UTC)
    plan(anna, "hall", now + off)
    mac = recorded(anna, "TG-01", 1, at=now + off)
    synced(anna, ben)
    plan(ben, "cellar")
    recorded(ben, "TG-01", 1, address="10.84.16.9")
    synced(ben, anna)
    plan(anna, "attic", now + off)
    unit = with_job(anna, lambda job: job.register.by_mac(mac).last.unit)
    with_job(anna, lambda job: job.append(Reopened(unit=unit, mac=mac, because="moved"), now + off))
    synced(anna, ben, anna)
    for each in crew:
        row = with_job(each, lambda job: job.register.by_mac(mac))
        assert with_job(each, lambda job: job.register.plan()).by_tag["TG-01"].place == "attic"
        assert [str(visit.as_left.address.value) for visit in row.visits] == ["10.84.16.1", "10.84.16.9"]
        assert [visit.reopened for visit in row.visits] == [False, True]
        assert ("clock of anna was ahead" if off > timedelta() else "clock of anna was behind") in open_ones(each)
        assert "ben" not in open_ones(each)
        assert with_job(each, lambda job: job.checked()) is not None
    assert open_ones(anna) == open_ones(ben)


def test_what_two_did_without_knowing_of_each_other_is_named(crew):
    """However far apart in time: a later date alone settles nothing, and one that cannot be is not the later one."""
    anna, ben = crew
    plan(anna, "hall", datetime.now(UTC) + timedelta(days=400))
    synced(anna)
    recorded(anna, "TG-01", 1, at=WHEN)
    plan(ben, "cellar")
    recorded(ben, "TG-01", 1, at=WHEN + timedelta(hours=9), address="10.84.16.9")
    synced(anna, ben, anna)
    for each in crew:
        assert "The device TG-01 is planned differently by anna and ben" in open_ones(each)
        assert "was left with 10.84.16.1 by anna and 10.84.16.9 by ben" in open_ones(each)
        assert with_job(each, lambda job: job.register.plan()).by_tag["TG-01"].place == "cellar"
    assert open_ones(anna) == open_ones(ben)


def test_two_devices_with_one_tag_or_address_are_named_and_both_are_kept(crew):
    anna, ben = crew
    recorded(anna, "TG-01", 1, address="10.84.16.7")
    recorded(ben, "TG-01", 2, address="10.84.16.7")
    for each in (anna, ben, anna):
        run("sync", each)
    for each in crew:
        said = askport("register", "settle", each).stdout
        assert "The address 10.84.16.7 is given to 02:00:00:00:00:01 by anna and 02:00:00:00:00:02 by ben" in said
        assert "The tag TG-01 is given to" in said
        assert len(tags(each)) == 2
    askport("register", "settle", anna, "1", "--words", "the second one is moved")
    run("sync", anna)
    run("sync", ben)
    assert "The address" not in askport("register", "settle", ben).stdout


def test_a_push_that_is_repeated_or_cut_arrives_once(crew, monkeypatch):
    """The connection is lost before anything arrives, and after everything did."""
    anna, ben = crew
    recorded(anna, "TG-01", 1)
    push = Server.push

    def lost_before(self, lines, seal):
        raise errors.MachineRefused("The connection was lost.")

    def lost_after(self, lines, seal):
        push(self, lines, seal)
        raise errors.MachineRefused("The connection was lost.")

    for lost in (lost_before, lost_after):
        monkeypatch.setattr(Server, "push", lost)
        run("sync", anna, status=3)
    monkeypatch.setattr(Server, "push", push)
    run("sync", anna)
    assert "3 lines came" in run("sync", ben)
    assert len(tags(ben)) == 1
    assert heads(anna) == heads(ben)


AS_ANNA = {
    "change": "UPDATE askport.lines SET body = '{}'",
    "remove": "DELETE FROM askport.lines",
    "remove a push": "DELETE FROM askport.pushes",
    "empty": "TRUNCATE askport.lines CASCADE",
    "push as another": "INSERT INTO askport.pushes (number, member, head, place, signature) "
                       "VALUES (0, 'ben', 'x', 1, 'x')",
    "add to an old push": "INSERT INTO askport.lines SELECT 'x', push, member, place + 1, hash, at, body "
                          "FROM askport.lines",
    "a strand of another": """
        WITH made AS (INSERT INTO askport.pushes (number, member, head, place, signature)
            VALUES (0, 'anna', 'x', 1, 'x') RETURNING number)
        INSERT INTO askport.lines SELECT encode(sha256(convert_to(hash || E'\\n' || place + 1 || E'\\n' || at || E'\\n'
            || body, 'UTF8')), 'hex'), made.number, 'anna', place + 1, hash, at, body
        FROM askport.lines, made WHERE member = 'ben' ORDER BY place DESC LIMIT 1""",
    "claim as another": "SELECT askport.claim(ARRAY['unit TG-01'], 'ben', 60)",
    "forge a claim": "INSERT INTO askport.claims VALUES ('unit TG-01', 'ben', now(), now())",
    "take another out": "SELECT askport.leave('ben')",
    "another's key": "UPDATE askport.members SET key = repeat('0', 64) WHERE name = 'ben'",
    "be another": "INSERT INTO askport.members (name, key, login) VALUES ('anna2', repeat('0', 64), 'ben')",
    "addresses of another": "SELECT askport.deal(ARRAY['10.1.1.1'::inet], 'ben')",
    "no check": "ALTER TABLE askport.lines DISABLE TRIGGER ALL",
}  # fmt: skip


@pytest.mark.by_day(0, 3, 6, 9, 12)
@pytest.mark.parametrize("attack", AS_ANNA)
def test_a_member_with_sql_of_its_own_changes_nothing(crew, database, attack):
    """What the grants and the triggers do not allow is refused by the database itself."""
    for number, each in enumerate(crew, 1):
        recorded(each, f"TG-0{number}", number)
        run("sync", each)
    before = database.sql("SELECT * FROM askport.lines ORDER BY hash"), database.sql("SELECT * FROM askport.members")
    with pytest.raises(psycopg.errors.InsufficientPrivilege):
        database.sql(AS_ANNA[attack], login="anna")
    with pytest.raises(psycopg.errors.InsufficientPrivilege):
        database.sql(AS_ANNA[attack], login="carla")
    after = database.sql("SELECT * FROM askport.lines ORDER BY hash"), database.sql("SELECT * FROM askport.members")
    assert before == after


AS_THE_OWNER = {
    "a trigger of a table in the way": """
        CREATE TEMP TABLE claims (what text PRIMARY KEY, member text, since timestamptz, until timestamptz);
        CREATE FUNCTION pg_temp.rise() RETURNS trigger LANGUAGE plpgsql AS
            'BEGIN EXECUTE ''ALTER ROLE anna SUPERUSER''; RETURN NEW; END';
        CREATE TRIGGER rise BEFORE INSERT ON claims FOR EACH ROW EXECUTE FUNCTION pg_temp.rise();
        GRANT ALL ON claims TO PUBLIC;
        SELECT askport.claim(ARRAY['unit TG-01'], 'anna', 60)""",
    "members of its own": """
        CREATE TEMP TABLE members (name text, login text, removed timestamptz);
        INSERT INTO members VALUES ('ben', 'anna', NULL); GRANT ALL ON members TO PUBLIC;
        SELECT askport.claim(ARRAY['unit TG-01'], 'ben', 60)""",
    "functions that everybody may call": "SET ROLE nobody_at_all; SELECT askport.leave('anna')",
}  # fmt: skip


@pytest.mark.parametrize("attack", AS_THE_OWNER)
def test_no_member_gets_what_the_functions_of_the_database_may(crew, database, attack):
    """What is in a member's own temporary tables is not what they look into, and they are nobody who may more."""
    database.sql("DO $$ BEGIN CREATE ROLE nobody_at_all; EXCEPTION WHEN duplicate_object THEN NULL; END $$")
    database.sql("GRANT nobody_at_all TO anna")
    with contextlib.suppress(psycopg.errors.InsufficientPrivilege):
        database.sql(AS_THE_OWNER[attack], login="anna")
    assert database.sql("SELECT rolsuper FROM pg_roles WHERE rolname = 'anna'") == [(False,)]
    assert database.sql("SELECT member FROM askport.claims WHERE member = 'ben'") == []
    assert database.sql("SELECT name FROM askport.members WHERE removed IS NOT NULL") == []
    may = database.sql("SELECT DISTINCT rolsuper, rolcanlogin, rolcreaterole, rolname FROM pg_proc, pg_roles "
                       "WHERE pronamespace = 'askport'::regnamespace AND proowner = pg_roles.oid")  # fmt: skip
    assert may == [(False, False, False, "site_functions")]


def test_an_owner_who_may_make_roles_and_no_more_makes_a_crew(database):
    for each in ("DROP DATABASE IF EXISTS other", "DROP ROLE IF EXISTS builder", "CREATE ROLE builder LOGIN CREATEROLE",
                 "CREATE DATABASE other OWNER builder"):  # fmt: skip
        database.sql(each, database="postgres")
    for _ in range(2):
        run("create", database.url("builder", "other"), "--site", "Hatchery")
    assert database.sql("SELECT count(*) FROM pg_auth_members WHERE member = 'builder'::regrole") == [(0,)]


@pytest.mark.parametrize("broken", ["the hash", "the place", "the line before"])
def test_a_line_that_does_not_follow_is_refused_by_the_database(crew, database, broken):
    recorded(crew[0], "TG-01", 1)
    run("sync", crew[0])
    ((hash_, place, at, body),) = database.sql(
        "SELECT hash, place, at, body FROM askport.lines ORDER BY place DESC LIMIT 1"
    )
    before = "0" * 64 if broken == "the line before" else hash_
    place = place + (2 if broken == "the place" else 1)
    own = "1" * 64 if broken == "the hash" else chain_hash(before, place, at, body)
    with psycopg.connect(database.url("anna")) as connection, pytest.raises(psycopg.errors.IntegrityError):
        pushed = "INSERT INTO askport.pushes (number, member, head, place, signature) VALUES (0, 'anna', %s, %s, '')"
        number = connection.execute(f"{pushed} RETURNING number", (own, place)).fetchone()[0]
        values = own, number, place, before, at, body
        connection.execute("INSERT INTO askport.lines (hash, push, member, place, before, at, body) "
                           "VALUES (%s, %s, 'anna', %s, %s, %s, %s)", values)  # fmt: skip


NOTE = Noted(unit=7, mac=addresses.MacAddress(b"\2\0\0\0\0\7"), text="wet").model_dump_json()
NOW = "2026-12-01T10:00:00+00:00"
SEALED = {
    "a time in other words": ("2026-12-01T10:00:00Z", NOTE),
    "no time": ("yesterday", NOTE),
    "a time of no place": ("2026-12-01T10:00:00", NOTE),
    "a unit beyond all numbers": (NOW, NOTE.replace('"unit":7', f'"unit":{2**70}')),
    "no entry": (NOW, '{"kind":"found"}'),
    "no JSON": (NOW, "wet"),
    "a book": (NOW, NOTE.replace("wet", "wet " * 4_100_000)),
}


IT = addresses.MacAddress(b"\2\0\0\0\0\7")
WRITTEN = [
    json.loads(each.model_dump_json())
    for each in (
        Found(unit=7, tag="TG-01", mac=IT, maker=None, address=None, belief="asks", asks_by="dhcp", because=()),
        Left(unit=7, mac=IT, as_left=AsLeft(address=Value(value=None, basis=Basis.HEARD))),
        DevicePlanned(device=PlannedDevice(tag="TG-01")), Noted(unit=7, mac=IT, text="wet"),
        MemberAccepted(name="mia", key="ab", removed=False),
    )
]  # fmt: skip
ANY_JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text(max_size=8)
    | st.sampled_from(["0.0.0.0", "2026-12-01T10:00:00Z", "10.84.16.40/22", "\x00", "\ud800"]),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=8), inner, max_size=3), max_leaves=5,
)  # fmt: skip


@given(data=st.data())
def test_any_json_in_any_column_ends_in_a_sentence_or_is_read_by_everybody(data):
    """A member's own key seals whatever its own program writes: what passes the reader is stored, grown and shown."""
    entry = dict(data.draw(st.sampled_from(WRITTEN)))
    entry[data.draw(st.sampled_from([*entry, "more"]))] = data.draw(ANY_JSON)
    body = data.draw(st.just(json.dumps(entry)) | ANY_JSON.map(json.dumps) | st.text(max_size=20))
    at, place = data.draw(st.just(NOW) | st.text(max_size=30)), data.draw(st.just(1) | st.integers(-(2**70), 2**70))
    line = StrandLine("", "anna", place, "", at, body)
    with contextlib.suppress(UnicodeEncodeError):
        line = replace(line, hash=chain_hash("", place, at, body))
    if fault := fault_of(line, lambda _: None):
        assert fault.isprintable()
        assert fault.endswith((".", "is."))
        return
    read = Line(number=1, place=1, after=None, at=datetime.fromisoformat(at), body=body, hash=line.hash, member="anna")
    for row in fold([read]):
        assert register_document.register_json([row])
        assert device_page.device_text(row, None)


def push_as(member, path, lines):
    """Push lines that no program of ours writes, with the member's own seal."""
    crew, before, made = with_job(path, lambda job: job.crew, create=False), "", []
    for place, (at, body) in enumerate(lines, 1):
        made.append(StrandLine(chain_hash(before, place, at, body), member, place, before, at, body))
        before = made[-1].hash
    with contextlib.closing(Server(crew.url)) as server:
        key = own_key.key_of(crew.crew, member)
        server.push(made, seal(key, crew=crew.crew, member=member, head=before, place=len(made)))


@pytest.mark.by_day(0, 3, 5)
@pytest.mark.parametrize("bad", SEALED)
def test_what_a_member_seals_and_nobody_can_read_harms_nobodys_file(crew, bad, database, tmp_path):
    """It is refused by the database or named by whoever reads it, and what others wrote comes all the same."""
    anna, ben = crew
    with contextlib.suppress(errors.Refused):
        push_as("anna", anna, [SEALED[bad]])
        said = run("sync", ben, status=1)
        assert "line 1 of anna" in said, said
        assert "line 1 of anna" in run("status", ben)
        assert "line 1 of anna" in askport("register", "settle", ben).stdout
        run("join", database.url("m0"), "--job", tmp_path / "late.askport", status=1)
        papers = askport("report", database.url("carla"), "--out", tmp_path, "--only", "register.json")
        assert (papers.returncode, "line 1 of anna" in papers.stderr) == (1, True), papers
    recorded(ben, "TG-02", 2)
    run("sync", ben, status=0 if "a book" in bad else 1)
    assert tags(ben) == [("TG-02", "10.84.16.2", "")]
    assert askport("register", "verify", ben).returncode == 0


AS_OWNER = {
    "a text": ("UPDATE askport.lines SET body = replace(body, 'TG-01', 'TG-09') WHERE body LIKE '%\"found\"%TG-01%'",
               "line 1 of anna has another hash than its text"),
    "a text and its hashes": (None, "anna has not sealed"),
    "a line away": ("DELETE FROM askport.lines WHERE place = 2 AND member = 'anna'",
                    "line 3 of anna cannot be verified"),
    "the last away": ("DELETE FROM askport.lines WHERE place = 3 AND member = 'anna'",
                      "The last line that anna sealed, its line 3, is missing"),
    "a push away": ("DELETE FROM askport.lines WHERE member = 'anna'; DELETE FROM askport.pushes WHERE member = 'anna'",
                    "line 1 of anna is missing in the database"),
    "whose it is": ("ALTER TABLE askport.lines DISABLE TRIGGER ALL; UPDATE askport.lines SET member = 'ben'",
                    "line 1 of ben came with a push of anna"),
    "a key": ("UPDATE askport.members SET key = repeat('ab', 32) WHERE name = 'anna'",
              "anna has another key in the database than before"),
    "a signature": ("UPDATE askport.pushes SET signature = repeat('0', 128) WHERE member = 'anna'",
                    "anna has not sealed its line 3"),
}  # fmt: skip


def forge(database):
    """Give anna's first line another text, and make all hashes after it anew, as its owner could."""
    lines = database.sql("SELECT hash, place, before, at, body FROM askport.lines WHERE member = 'anna' ORDER BY place")
    before, made = "", []
    for _, place, _, at, body in lines:
        body = body.replace("TG-01", "TG-09")
        made.append((chain_hash(before, place, at, body), before, body))
        before = made[-1][0]
    for (old, *_), (new, before, body) in zip(lines, made, strict=True):
        database.sql("UPDATE askport.lines SET hash = %s, before = %s, body = %s WHERE hash = %s",
                     values=(new, before, body, old))  # fmt: skip
    database.sql("UPDATE askport.pushes SET head = %s WHERE member = 'anna'", values=(made[-1][0],))


@pytest.mark.by_day(0, 3, 6, 9, 12, 15)
@pytest.mark.parametrize("edit", AS_OWNER)
@pytest.mark.parametrize("had_it", ["read before", "new"])
def test_what_the_owner_of_the_database_changes_is_found_and_named(crew, database, tmp_path, edit, had_it):
    """By whoever has it already, and by whoever reads it for the first time; nothing false gets into a file."""
    anna, ben = crew
    recorded(anna, "TG-01", 1)
    run("sync", anna)
    run("sync", ben)
    statement, says = AS_OWNER[edit]
    if edit == "a push away" and had_it == "new":
        says = None  # who never heard of it cannot miss it
    if edit == "a key" and had_it == "new":
        says = "anna has not sealed its line 3"
    if statement:
        for each in statement.split("; "):
            database.sql(each)
    else:
        forge(database)
    if had_it == "new":
        reader = tmp_path / "new.askport"
        said = run("join", database.url("m0"), "--job", reader, status=1 if says else 0)
        found = tags(reader)
    else:
        said, found = run("sync", ben, status=1), tags(ben)
        assert says in run("sync", ben, status=1), "it is named until it is right again"
    if says:
        assert says in said, said
    assert found in ([], [("TG-01", "10.84.16.1", "anna")])
    assert "TG-09" not in str(found)


def test_what_was_not_believed_is_taken_once_it_is_right_again(crew, database):
    """The owner changes a line, and puts it back from a copy."""
    anna, ben = crew
    recorded(anna, "TG-01", 1)
    run("sync", anna)
    ((body, hash_),) = database.sql("SELECT body, hash FROM askport.lines WHERE place = 1 AND member = 'anna'")
    database.sql("UPDATE askport.lines SET body = '{}' WHERE hash = %s", values=(hash_,))
    for _ in range(2):
        assert "line 1 of anna has another hash" in run("sync", ben, status=1)
    recorded(ben, "TG-02", 2)
    run("sync", ben, status=1)
    assert [each[0] for each in tags(ben)] == ["TG-02"]
    database.sql("UPDATE askport.lines SET body = %s WHERE hash = %s", values=(body, hash_))
    run("sync", ben)
    assert [each[0] for each in tags(ben)] == ["TG-01", "TG-02"]
    assert "0 lines came, 0 lines went." in run("sync", ben)


RESTORES = {
    "as it was": "",
    "yesterday's": "",
    "without a line": "DELETE FROM askport.lines; DELETE FROM askport.pushes",
    "half of it": "DELETE FROM askport.lines WHERE member = 'ben' AND push > (SELECT min(push) FROM askport.lines)",
    "nothing": "DROP SCHEMA askport CASCADE",
}


@pytest.mark.parametrize("restored", RESTORES)
def test_whatever_a_database_has_after_it_was_put_back_all_have_everything_again(crew, database, tmp_path, restored):
    """Somebody else pushes first, so that the numbers of lost pushes are given anew; each brings what is missing."""
    anna, ben = crew
    late = tmp_path / "m0.askport"
    run("join", database.url("m0"), "--job", late)
    recorded(anna, "TG-01", 1)
    recorded(ben, "TG-02", 2)
    synced(anna, ben, late)
    run("members", anna, "--accept", "m0")
    if restored == "yesterday's":
        database.sql("CREATE DATABASE kept TEMPLATE site STRATEGY file_copy", database="postgres")
    recorded(anna, "TG-03", 3)
    recorded(ben, "TG-04", 4)
    synced(anna, ben, late)
    if restored == "as it was":
        database.sql("CREATE DATABASE kept TEMPLATE site STRATEGY file_copy", database="postgres")
    if restored in ("as it was", "yesterday's"):
        database.anew("kept")
        database.sql("DROP DATABASE kept", database="postgres")
    elif RESTORES[restored]:
        database.sql(RESTORES[restored])
    if restored == "nothing":
        run("create", database.url(), "--from", anna)
    for number in range(5, 9):  # as many pushes again as were lost, and more
        recorded(late, f"TG-0{number}", number)
        askport("crew", "sync", late)
    for _ in range(3):
        for each in (anna, ben, late):
            done = askport("crew", "sync", each)
            assert (done.returncode in (0, 1), "fault" in done.stderr) == (True, False), done
    synced(anna, ben, late)
    assert heads(anna) == heads(ben) == heads(late)
    assert [each[0] for each in tags(ben)] == [f"TG-0{number}" for number in range(1, 9)]
    assert open_ones(ben) == ""


@pytest.mark.parametrize(
    "secret", ["?password=marked-secret", "?sslpassword=marked-secret", "?password=marked-secret&x=%zz"]
)
def test_a_password_in_a_url_is_refused_kept_nowhere_and_repeated_nowhere(crew, database, secret, tmp_path):
    url, late = f"postgresql://anna@localhost:{database.port}/site{secret}", tmp_path / "m0.askport"
    for command in (["sync", crew[0], "--url", url], ["join", url, "--job", late], ["status", url]):
        assert "marked-secret" not in run(*command, status=2)
    assert b"marked-secret" not in crew[0].read_bytes()
    assert not late.exists()
    run("sync", crew[0])


def test_a_wrong_url_replaces_no_good_one_and_a_refused_join_leaves_no_file(crew, database, tmp_path):
    run("sync", crew[0], "--url", database.url("anna", "postgres"), status=2)
    run("sync", crew[0])
    run("join", database.url("m5"), "--job", tmp_path / "m5.askport", status=1)
    assert not (tmp_path / "m5.askport").exists()


def test_what_is_missing_in_a_database_decides_what_is_said(crew, database):
    assert "There is no crew" in run("status", database.url("owner", "postgres"), status=2)
    database.sql("ALTER TABLE askport.lines DROP COLUMN body CASCADE")
    said = run("sync", crew[0], status=2)
    assert "There is no crew" not in said
    assert "body" in said


@pytest.mark.by_day(0, 1)
@pytest.mark.parametrize("held", [
    "SELECT pg_advisory_lock(1095978832)", "LOCK TABLE askport.lines IN ACCESS SHARE MODE",
    "INSERT INTO askport.pushes VALUES (0, 'ben', 'x', 1, 'x')",
])  # fmt: skip
def test_nobody_keeps_others_from_pushing_or_it_is_said_who(crew, database, held):
    recorded(crew[0], "TG-01", 1)
    with psycopg.connect(database.url("ben")) as connection:
        connection.execute(held)
        if "INSERT" in held:  # a push that is never finished
            assert "is held by ben" in run("sync", crew[0], status=3)
        else:
            run("sync", crew[0])
        connection.rollback()
    run("sync", crew[0])


@pytest.mark.parametrize("name", ["anna ", "Anna", "ANNA", "an\u200bna", "", "x" * 90])
def test_no_member_is_called_as_another_one(crew, database, name):
    with pytest.raises(psycopg.errors.Error):
        database.sql("INSERT INTO askport.members (name, key) VALUES (%s, repeat('a', 64))", login="m0", values=(name,))


def test_kept_frames_follow_their_lines_as_far_as_they_are_few_enough(crew, monkeypatch):
    """Their digest is in a line; until they have come the file is whole without them, and says so."""
    from askport.edges.crew import frames

    anna, ben = crew
    mac = recorded(anna, "TG-01", 1)
    unit = with_job(anna, lambda job: job.register.by_mac(mac).last.unit)
    with_job(anna, lambda job: job.keep(unit, [(WHEN, b"frame" * 20)]))
    monkeypatch.setattr(frames, "_MAX_FRAMES", 10)
    run("sync", anna)
    run("sync", ben)
    assert askport("register", "verify", ben).returncode == 0
    digest = with_job(ben, lambda job: job.register.by_mac(mac).last.frames)
    with pytest.raises(errors.BadInput, match="have not come from the crew yet"):
        with_job(ben, lambda job: job.capture(digest))
    monkeypatch.setattr(frames, "_MAX_FRAMES", 1000)
    run("sync", anna)
    run("sync", ben)
    assert b"frame" * 20 in with_job(ben, lambda job: job.capture(digest))


def test_who_comes_later_is_named_in_every_file_until_one_who_is_known_says_that_it_is_right(crew, database):
    """Nobody accepts themselves; one who is taken out, or comes back with another key, is somebody new."""
    anna, ben = crew
    run("join", database.url("m0"), "--job", anna.with_stem("m0"), "--as", "mia")
    for each in (anna, ben):
        run("sync", each)
        assert "mia is new in this crew" in askport("register", "settle", each).stdout
        assert "mia is new in this crew" in askport("crew", "status", each).stdout
        assert "mia (not accepted)  " in run("members", each)
    recorded(anna.with_stem("m0"), "TG-01", 1)
    with JobFile(anna.with_stem("m0"), create=False).engine.begin() as hers:  # by a program of her own
        key = hers.exec_driver_sql("SELECT key FROM members WHERE name = 'mia'").scalar()
    mia = JobFile(anna.with_stem("m0"), create=True)
    mia.append(MemberAccepted(name="mia", key=key, removed=False), datetime.now(UTC))
    mia.close()
    for each in (anna.with_stem("m0"), anna, ben):
        run("sync", each)
    assert "by mia (not accepted)" in askport("register", "show", anna, "TG-01").stdout
    askport("report", anna, "--out", anna.parent / "out")
    cover = subprocess.run(["pdftotext", anna.parent / "out/handover.pdf", "-"], capture_output=True, text=True).stdout
    assert "mia is new in this crew" in cover
    assert "mia (not accepted)" in cover
    for wrong, why in (("olaf", "is not a member who waits"), ("ben", "is not a member who waits")):
        assert why in askport("crew", "members", anna, "--accept", wrong).stderr
    run("members", ben, "--accept", "mia")
    for each in (ben, anna):
        run("sync", each)
        assert askport("register", "settle", each).stdout == "Nothing is open.\n"
    assert "by mia\n" in askport("register", "show", anna, "TG-01").stdout
    run("remove", database.url(), "mia")
    run("sync", anna)
    assert "mia was taken out of this crew" in askport("register", "settle", anna).stdout
    run("members", anna, "--accept", "mia")
    assert askport("register", "settle", anna).stdout == "Nothing is open.\n"
