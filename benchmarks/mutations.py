"""Make the code wrong, one place at a time in a copy, and see that a test says so (``make mutations``)."""

import os
import re
import shutil
import subprocess
import sys
import tempfile
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).parent.parent


@dataclass(frozen=True)
class Mutation:
    """One wrong change, and the tests that have to notice."""

    what: str
    file: str
    right: str
    wrong: str
    tests: tuple[str, ...]


MUTATIONS = (
    Mutation(
        "the TCP checksum is constant", "core/formats/tcp.py",
        'internet_checksum(covered).to_bytes(2, "big")', 'b"\\x12\\x34"', ("test_formats.py",),
    ),
    Mutation(
        "the UDP checksum is constant", "core/formats/udp.py",
        "internet_checksum(covered) or 0xFFFF", "0x1234", ("test_formats.py",),
    ),
    Mutation(
        "no lease time is given", "core/ways/answering_requests.py",
        'options.append((OptionCode.LEASE_TIME, LEASE_S.to_bytes(4, "big")))', "pass", ("test_ways.py",),
    ),
    Mutation(
        "measuring asks from addresses that the device holds", "core/finding/measuring.py",
        "self._taken.add(address)", "pass", ("test_measuring.py",),
    ),
    Mutation(
        "the laptop takes planned addresses", "core/visit/cable.py",
        "found |= self.around.planned.keys() | self.around.used.keys()", "found |= set()",
        ("test_session.py", "test_reach.py"),
    ),
    Mutation(
        "the laptop takes the planned address of this device", "core/visit/stages/access.py",
        "return self._visit.cable.somebodys() | planned", "return self._visit.cable.somebodys()",
        ("test_session.py", "test_reach.py"),
    ),
    Mutation(
        "a template of somebody else's file may ask for more than its values", "core/phrases.py",
        'values and re.search(r"[{}]"', 'False and re.search(r"[{}]"', ("test_phrases.py",),
    ),
    Mutation(
        "a port that refused is excused by a wrong mask as one that is silent", "core/proofs/measured.py",
        "proof.passed is False and proof.ran_out", "proof.passed is False", ("test_proofs.py",),
    ),
    Mutation(
        "the register's clash is not seen", "core/plan/target.py",
        'return TargetCheck(about="register", passed=False, sentence=phrase("{tag} already has it.", tag=tag))',
        "pass",
        ("test_session.py", "test_job.py"),
    ),
    Mutation(
        "an event without a place ends what runs", "core/visit/visit.py",
        "if phase := after(self.phase, event):", "if phase := after(self.phase, event) or self.phase:",
        ("test_rooms.py",),
    ),
    Mutation(
        "what a proof does as it ends is lost", "core/proofs/proof.py",
        "for proof in self.proofs:\n            self._effects += proof.poll()",
        "for proof in self._running:\n            self._effects += proof.poll()", ("test_session.py",),
    ),
    Mutation(
        "one who shows an address later is no rival", "core/finding/rivals.py",
        "rival = Rival(clue.mac, at,", 'rival = Rival(clue.mac, float("-inf"),', ("test_finding.py",),
    ),
    Mutation(
        "a station that wants itself for a gateway is given none", "core/ways/dcp_way.py",
        "gateway = at.ip", "gateway = UNSPECIFIED", ("test_dcp.py",),
    ),
    Mutation(
        "a unit of a crate may be found anywhere", "core/crate/after_first.py",
        "if self._found_at and at and at != self._found_at", "if False and at != self._found_at",
        ("test_session.py", "test_lessons.py"),
    ),
    Mutation(
        "nobody is asked on a live network", "core/crate/switch_crate.py",
        "if live := live_network(session):", 'if live := "":', ("test_session.py", "test_switch_crate.py"),
    ),
    Mutation(
        "a pulled cable is a power cut", "core/proofs/power_cycle.py",
        "if not self._told and not asks_for_address(heard):", "if False:", ("test_proofs.py",),
    ),
    Mutation(
        "a clock that ran on has begun anew", "core/proofs/own_clock.py",
        "if off > 2 * allowed:", "if True:", ("test_proofs.py",),
    ),
    Mutation(
        "a clock that was never steady counts", "core/proofs/own_clock.py",
        "if self._shown and not self._runs_on(at, ticks):", "if False:", ("test_proofs.py",),
    ),
    Mutation(
        "what it asks for after it was seen does not count", "core/proofs/after_start.py",
        "if protocol := power_cycle.asks_for_address(heard):", "if protocol := '':", ("test_proofs.py",),
    ),
    Mutation(
        "that it goes back after it was seen does not count", "core/proofs/after_start.py",
        "at > self._there_at + _GONE_S", "False", ("test_proofs.py",),
    ),
    Mutation(
        "a boot loader's address is no change that was saved", "core/proofs/power_cycle.py",
        "_ELSEWHERE_S = 45.0", "_ELSEWHERE_S = 8.0", ("test_proofs.py",),
    ),
    Mutation(
        "silence is a mask", "core/finding/measuring.py",
        "if not self._gateways and (hidden :=", "if False and (hidden :=", ("test_measuring.py",),
    ),
    Mutation(
        "a route of its own is the default", "core/finding/measuring.py",
        "yield from self._ask_from_afar()", "pass", ("test_measuring.py",),
    ),
    Mutation(
        "a MAC address with two addresses names one", "core/finding/measuring.py",
        "for mac, known in self._owners.items() if len(known) == 1", "for mac, known in self._owners.items()",
        ("test_measuring.py",),
    ),
    Mutation(
        "a limit of pings is another address", "core/finding/measuring.py",
        "for step in (control, control, silent, silent, control, silent, control):", "for step in ():",
        ("test_measuring.py",),
    ),
    Mutation(
        "what was certain stays so", "core/finding/believing.py",
        "gathered.holdings.unanswered[key[1]] = gathered.holdings.unanswered.get(key[1], 0) + 1", "pass",
        ("test_finding.py",),
    ),
    Mutation(
        "ARP alone shows a device", "core/proofs/who_holds.py",
        "elif not self._answers_itself:", "elif False:", ("test_proofs.py",),
    ),
    Mutation(
        "one of two DNS servers shows both", "core/proofs/name_servers.py",
        "elif missing := [each for each in self._planned if each not in self._shown]:", "elif missing := []:",
        ("test_proofs.py",),
    ),
    Mutation(
        "what somebody behind it asks is its own call", "core/proofs/calls.py",
        "if ipv4.ttl not in SENT_WITH:", "if False:", ("test_proofs.py",),
    ),
    Mutation(
        "a stamp is read by the clock of now", "edges/two_clocks.py",
        "for era in reversed(self._eras):", "for era in self._eras[-1:]:", ("test_edges.py",),
    ),
    Mutation(
        "the next device begins before the record of this one is written", "edges/job_run.py",
        "return not self.session.visit.effects and self.driver.is_idle", "return True", ("test_session.py",),
    ),
    Mutation(
        "a key overtakes the one before it", "tui/app.py",
        "if self._held or (self._on_the_way and self.focused is not None):", "if False:", ("test_views_left.py",),
    ),
    Mutation(
        "what was asked for and not made is a pass", "core/proofs/verdict.py",
        "return self.nothing_failed and not self.missing(asked)", "return self.nothing_failed", ("test_proofs.py",),
    ),
    Mutation(
        "what was only asked counts as taken", "core/ways/talking.py",
        "[each.text for each in self._set_by_then if each.acknowledged and each.changes]",
        "[each.text for each in self._set_by_then if each.acknowledged]", ("test_snmp.py", "test_ways.py"),
    ),
    Mutation(
        "a page that refuses halfway counts as unchanged", "core/ways/talking.py",
        "any(each.acknowledged and each.changes for each in self._set_by_then)", "False", ("test_ways.py",),
    ),
    Mutation(
        "whoever is at the address is talked to", "core/visit/stages/reach_stage.py",
        "if there.passed or any(", "if True or any(", ("test_session.py",),
    ),
    Mutation(
        "a taken laptop address ends the proofs", "core/visit/stages/prove_stage.py",
        "and not self._looks_again:", "and False:", ("test_session.py",),
    ),
    Mutation(
        "large digits break where there is no room", "tui/screens/crib_screen.py",
        ".to(_VALUE if beside else _UNDER)", ".to(_VALUE)", ("test_pictures.py",),
    ),
    Mutation(
        "a view that was left is kept", "tui/screens/drawn_screen.py",
        "StylesCache.get_inner_outer.cache_clear()", "pass", ("test_views_left.py",),
    ),
    Mutation(
        "a proof learns nothing of the plan's columns", "core/visit/stages/prove_stage.py",
        "columns=device.work.planned.columns if device.work.planned else {}", "columns={}", ("test_rooms.py",),
    ),
    Mutation(
        "two devices get one tag", "core/register/corrections.py",
        "if other:", "if False:", ("test_record.py",),
    ),
    Mutation(
        "a door lets any name in", "edges/door_guard.py",
        'if request.header(b"host") != host:', "if False:", ("test_door_guard.py",),
    ),
    Mutation(
        "a flood is read whole", "core/finding/shedding.py",
        "if count > limit * times:", "if False:", ("test_finding.py",),
    ),
    Mutation(
        "any next hop is inside", "core/finding/measuring.py",
        "if hop == source:", "if hop is not None:", ("test_measuring.py",),
    ),
    Mutation(
        "what a relay may have passed on is the sender's own", "core/finding/readers/ipv4_clues.py",
        "own = ipv4.protocol != PROTOCOL_UDP or", "own = udp is None or", ("test_finding.py",),
    ),
    Mutation(
        "what a server said through another cable counts", "core/finding/device.py",
        "if gathered.is_of_this_cable(tally) and", "if", ("test_finding.py",),
    ),
    Mutation(
        "another value than the planned one is proven", "core/register/as_planned.py",
        "planned != value and", "value is None and", ("test_as_planned.py",),
    ),
    Mutation(
        "a value that nobody asked for is proven", "core/register/as_planned.py",
        'value is not None or (name != "dns" and name not in visit.proofs)', "value is not None",
        ("test_as_planned.py",),
    ),
    Mutation(
        "a visit that was left in mid-proof takes the record back", "core/register/visits.py",
        "each.recorded_at or each.reopened or each.way", "each.has_changed", ("test_as_planned.py",),
    ),
    Mutation(
        "what was reopened is proven by what was shown before", "core/register/fold.py",
        "None, True, {}, None, ()", "None, True, last.proofs, None, ()", ("test_as_planned.py",),
    ),
    Mutation(
        "of proven and failed the later file is right", "core/register/joining.py",
        "if failed and any(", "if False and any(", ("test_record.py",),
    ),
    Mutation(
        "a clock decides what stands", "core/register/in_order.py",
        "set(line.entry.upon) for line", "set() for line", ("test_crew.py",),
    ),
    Mutation(
        "a time is believed that others had before it came", "core/register/chain.py",
        "min(line.at, line.pushed)", "max(line.at, line.at)", ("test_crew.py",),
    ),
    Mutation(
        "two who knew nothing of each other are of one mind", "core/crew/differences.py",
        "names[0] == names[1] or", "True or", ("test_crew.py",),
    ),
    Mutation(
        "an instant without a link is none", "edges/packet_wire.py",
        "self._link_changes + 2", "self._link_changes + 3", ("test_kernel.py",),
    ),
    Mutation(
        "a server that was heard is forgotten", "core/ways/answering_requests.py",
        "        if self._told:", "        if False:", ("test_ways.py",),
    ),
    Mutation(
        "two stand on the adapter at a time", "edges/footing.py",
        "if self.keeper.on_adapter not in (None, self):", "if False:", ("test_beside.py",),
    ),
    Mutation(
        "a relay sends before the keeper has let it", "edges/keeper/relay.py", "if not self._may_send:", "if False:",
        ("test_by_group.py",),
    ),
    Mutation(
        "a relay has read everything though it has not", "edges/keeper/relay.py", "until = self._asked[0]  # what came",
        "until = time.monotonic() + 1.0  # what came", ("test_edges.py",),
    ),
    Mutation(
        "who listens has the adapter alone", "edges/by_group/bounds.py", "if verb in _USES and", "if",
        ("test_by_group.py",),
    ),
    Mutation(
        "what another run needs on is switched off", "edges/keeper/adapter.py", "if switches_off and not",
        "if switches_off and",
        ("test_by_group.py",),
    ),
    Mutation(
        "a stand-in MAC address sends", "core/finding/questioning.py", "to=asked.sha, sent_by=laptop_mac",
        "to=asked.sha",
        ("test_controls.py",),
    ),
    Mutation(
        "who comes to a crew later accepts itself", "edges/crew/job_part.py", "if by == crew.member or (",
        "if True or (",
        ("test_crew.py",),
    ),
    Mutation(
        "one user has any number of connections", "edges/by_group/__main__.py", ">= MOST_AT_ONCE:",
        ">= 100 * MOST_AT_ONCE:",
        ("test_by_group.py",),
    ),
    Mutation(
        "a label that is scanned into an open line is put away", "tui/app.py", " or isinstance(line, ScrollView)", "",
        ("test_views_left.py",),
    ),
    Mutation(
        "a kind that only its maker speaks for is taken", "core/kinds/recognising.py", "is_offer=not wanted.sure",
        "is_offer=False",
        ("test_kinds.py",),
    ),
    Mutation(
        "the end of the input confirms that power was pulled", "cli/saying.py", 'return answer != "" and', "return",
        ("test_command_line.py",),
    ),
    Mutation(
        "in a live network anybody is gone on with", "core/finding/search.py", "(is_live and not is_known)", "False",
        ("test_session.py",),
    ),
    Mutation(
        "an answer to a device's question is a line of its own", "core/lessons/console_lesson.py",
        "elif not answers:", "else:",
        ("test_lessons.py",),
    ),
    Mutation(
        "an answer that was torn is not learned from", "edges/door.py", "self.kept(request, target, None, at)", "pass",
        ("test_edges.py",),
    ),
    Mutation(
        "what is not started is not counted on the cover", "reports/open_points.py", "everyone=everyone + not_started",
        "everyone=everyone",
        ("test_reports.py",),
    ),
    Mutation(
        "the recorded unit is taken as the next of the crate", "core/crate/after_first.py", "and known.is_recorded",
        "and False",
        ("test_session.py",),
    ),
)  # fmt: skip


def noticed(mutation: Mutation) -> str | None:
    """Apply a mutation to a copy, and return the test that fails, or None."""
    with tempfile.TemporaryDirectory(prefix="askport-mutation-") as held:
        copy = Path(held)
        for part in ("src", "tests", "pyproject.toml"):
            source = ROOT / part
            if source.is_dir():
                shutil.copytree(source, copy / part, ignore=shutil.ignore_patterns("__pycache__", "*.egg-info"))
            else:
                shutil.copy(source, copy / part)
        changed = copy / "src/askport" / mutation.file
        text = changed.read_text()
        if mutation.right not in text:
            raise SystemExit(f"'{mutation.right}' is no longer in {mutation.file}: write it anew.")
        changed.write_text(text.replace(mutation.right, mutation.wrong))
        paths = [f"tests/{each}" for each in mutation.tests]
        run = subprocess.run(
            [sys.executable, "-m", "pytest", "-x", "-p", "no:cacheprovider", "-m", "not screen", *paths],
            cwd=copy, env=os.environ | {"PYTHONPATH": str(copy / "src")}, capture_output=True, text=True,
        )  # fmt: skip
        failed = re.search(r"^FAILED \S*::(\S+)", run.stdout, re.MULTILINE)
        return failed[1] if failed else None


def main() -> int:
    """Try them all, or those that have one of the words of the command line."""
    survived, words = 0, sys.argv[1:]
    for mutation in (each for each in MUTATIONS if not words or any(word in each.what for word in words)):
        test = noticed(mutation)
        survived += test is None
        print(f"{mutation.what}: {'noticed by ' + test if test else 'NOT NOTICED'}", flush=True)
    return 1 if survived else 0


if __name__ == "__main__":
    sys.exit(main())
