"""The real screen in a real terminal: tmux types, and what stands on the screen is read."""

import os
import re
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from askport.bench import scenario
from conftest import ASKPORT, wait_for


def test_keys_and_palette_know_what_can_be_done_and_go_by_the_key_that_opened_them(terminal):
    """In the smallest terminal, where the keys that have no room in the last line stand in the help."""
    screen = terminal(*ASKPORT, "demo", "--pace", "12", size=(80, 24))
    whole = screen.until("Enter ▸ Use this device", "◆ 2 Find", "cannot talk: laptop is in 10.84.16.0/22", "? all keys")
    screen.keys("C-c")
    screen.until("Press q to quit.")
    for closes in ("?", "Escape", "F1"):
        screen.keys("F1" if closes == "F1" else "?")
        screen.until("What the keys do now", "Label", "Type or scan the MAC address on its label")
        screen.keys(closes)
        again = screen.until("Enter ▸ Use this device", "? all keys")
        assert [line[:30] for line in again.splitlines()[2:5]] == [line[:30] for line in whole.splitlines()[2:5]]
    screen.keys("C-p")
    screen.until("Search for commands", "Enter the address from its label")
    screen.keys("m", "o", "r", "e")
    screen.until("sweep faster; sends on the cable")
    screen.keys("Escape")
    screen.until("Enter ▸ Use this device")
    screen.leave()


@pytest.mark.night
def test_a_crate_on_a_switch_goes_by_itself_after_the_last_label(terminal):
    """Six labels, each its MAC address and its tag, and one power cycle; no other key."""
    screen = terminal(*ASKPORT, "demo", "--pace", "16", "--wire", "twins", "--first", "OX-01")
    screen.until("Listening")
    screen.keys("+")
    screen.until("6 devices use the same address 172.29.4.100", "x Several on switch")
    screen.keys("x")
    screen.until("no tag: it will not be set", "Setting starts after the last of 6 labels")
    for number in (1, 2, 3, 4, 5, 6):
        screen.keys(*f"00005e00534{number}", "Enter", *f"OX-0{number}", "Enter")
        screen.until(f"OX-0{number}")
    screen.until("At hand, side by side", "units side by side")
    screen.until("Switch off the switch and all 6 units")
    time.sleep(1.0)  # their clocks are watched for some seconds, sixteen times as fast, before they say anything
    screen.keys("F6")
    screen.until("power off")
    screen.keys("F6")
    shown = screen.until("Enter ▸ 6 of 6 proven.")
    for number in range(1, 7):
        assert re.search(rf"OX-0{number} +╌+─+━+═+·+▁.* proven", shown), shown
    screen.keys("Enter")
    screen.until("✓ OX-06", "asks by BOOTP", "BL-01")
    screen.leave()


def test_what_a_barcode_reader_types_after_a_key_is_no_command(terminal):
    """It types a whole label before the line for it is open."""
    screen = terminal(*ASKPORT, "demo", "--pace", "8", "--first", "TG-01")
    screen.until("Listening")
    screen.keys("-l", "nr6pt+x-q")
    screen.until("r6pt+x-q")
    screen.keys("Escape")
    time.sleep(0.5)
    screen.keys("-l", "mab5e")
    shown = screen.until("ab5e")
    assert "◆ listen   ○ greet" in shown, f"something was sent by a key of it:\n{shown}"
    screen.keys("Escape")
    time.sleep(0.5)
    screen.keys("-l", "r")
    screen.until("register of")
    screen.keys("-l", "tq")
    screen.until("    tq\n")
    screen.keys("Escape")
    screen.leave()


def test_a_label_that_is_scanned_where_no_line_is_open_is_compared_or_put_away(terminal):
    """No key of it is a command, on whatever screen."""
    screen = terminal(*ASKPORT, "demo", "--pace", "8", "--wire", "twins", "--first", "OX-01")
    screen.until("Listening")
    screen.keys("+")
    screen.until("6 devices use the same address 172.29.4.100")
    screen.keys("-l", "00:00:5e:00:53:43\r")
    screen.until("Scanned: 00:00:5e:00:53:43")
    screen.until("Use this device: 00:00:5e:00:53:43")
    for opens, seen in (("f", "What it said:"), ("p", "Work list"), ("?", "What the keys do")):
        screen.keys(opens)
        screen.until(seen)
        time.sleep(0.7)  # what follows a key sooner may be for the line that it opens
        screen.keys("-l", "e0:f1:a2:b3:c4:d5\r")
        screen.until("ignored: e0:f1:a2:b3:c4:d5")
        screen.keys("Escape")
        screen.until("Use this device: 00:00:5e:00:53:43")
    screen.leave()


def climb(screen):
    """Let the laptop ask until a silent device answers."""
    for rung in ("◆ greet", "◆ call"):
        screen.until("the laptop")
        screen.keys("+")
        screen.until(rung)


def test_a_device_is_walked_to_the_register_by_enter(terminal):
    """What a technician does with TG-01: Enter, its power, and Enter."""
    screen = terminal(*ASKPORT, "demo", "--pace", "12")
    found = "Enter ▸ Use this device: 00:00:5e:00:53:10 (Halden Fluidics) at 192.168.61.7"
    screen.until(found, "cannot talk: laptop is in 10.84.16.0/22")
    screen.keys("Enter")
    screen.until("Enter ▸ Borrow 192.168.61.")
    screen.keys("Enter")
    screen.until(
        "Enter ▸ Fill in its web page", "255.255.252.0", "none (read back)", "POST /net ip=10.84.16.40", "can talk"
    )
    screen.keys("Enter")
    screen.until("and put it back.", "ping to 10.84.16.40")
    screen.keys("F6")
    screen.until("Its power is off")
    screen.keys("F6")
    screen.until("Enter ▸ Record TG-01")
    screen.keys("Enter")
    screen.until("TG-01 is recorded.", "Go on to the next device.")
    screen.keys("r")
    screen.until("1 of 1 proven", "10.84.16.40/22", "Still to do", "OX-01 10.84.16.31/22")
    screen.until("Only this device answered when asked")  # the device at the cursor, under a short table
    screen.leave()
    screen.until("demo.askport: 'askport register list")


def test_small_screens_keep_what_matters_and_slips_are_said(terminal, tmp_path):
    screen = terminal(*ASKPORT, "demo", "--pace", "12", size=(100, 30))
    screen.until("Enter ▸ Use this device")
    screen.keys("e")
    screen.until("What are the new settings of TG-01?")
    screen.keys("C-u")
    screen.until("Enter accepts, Escape cancels.")
    screen._tmux("send-keys", "-l", "10.84.61.40/22 via 10.84.19.254")
    screen.until("was the address 10.84.16.40 meant")
    screen.leave()
    assert not list(tmp_path.glob("askport-demo-*"))  # nothing was recorded


def test_twins_hold_enter_up_and_a_label_is_compared_while_it_is_typed(terminal):
    screen = terminal(*ASKPORT, "demo", "--pace", "12", "--wire", "twins")
    screen.until("·   6 devices share 172.29.4.100. Connect one only. Or press m")  # and no "Enter ▸"
    screen.keys("m")
    screen.until("Which MAC address does its label give?")
    screen._tmux("send-keys", "-l", "53:47")
    screen.until("1 digit differs", "^")
    screen.keys("BSpace")
    time.sleep(0.8)  # an editing key is an action, and takes its turn behind what is typed at once
    screen._tmux("send-keys", "-l", "3")
    screen.until("it fits")
    screen.keys("Enter")
    screen.until("▸ 00:00:5e:00:53:43")
    screen.keys("f")
    screen.until("What it said: 00:00:5e:00:53:43", "ac 1d 04 64", "bytes 28 to 31      sender's address")
    screen.keys("f")
    screen.until("Several devices heard: check the label", "Enter ▸ Use this device: 00:00:5e:00:53:43")
    screen.leave()


def test_loudness_is_climbed_and_a_sweep_is_held(terminal):
    screen = terminal(*ASKPORT, "demo", "--pace", "4", "--wire", "house")
    screen.until("says that it is a router")
    for rung in ("◆ greet", "◆ call", "◆ sweep"):
        screen.keys("+")
        screen.until(rung)
    screen.until("DHCP server 10.84.19.254 found")
    screen.until("left at 1,000 a second")
    screen.keys("Space")
    screen.until("a second, held")
    screen.keys("-")
    screen.until("◆ listen")
    screen.leave()


def test_a_hostile_name_is_shown_and_does_nothing(terminal, tmp_path):
    """A device that calls itself markup, an escape sequence and a link neither ends the program nor presses keys."""
    script = tmp_path / "hostile.py"
    script.write_text(HOSTILE)
    screen = terminal(sys.executable, str(script))
    screen.until("calls itself", "Enter ▸ Use this device", "[/][@click=app.quit]x")
    screen.leave()


HOSTILE = r"""
from askport.bench import scenario
from askport.bench.devices import BlowerDrive
from askport.bench.stand_in import Settings
from askport.cli.practising import bench_workplace
from askport.core.addresses import MacAddress
from askport.tui.app import AskPortApp

class Hostile(BlowerDrive):
    name = b"[/][@click=app.quit]x\x1b]0;pwned\x07\x1b[2J\xe2\x80\xae"

workplace = bench_workplace(12.0)
workplace.practice.bench.plug(Hostile(MacAddress(bytes.fromhex("00005e005320")), Settings()))
AskPortApp(lambda: workplace).run()
"""


def test_on_a_real_cable_the_screen_follows_the_adapter_and_says_what_is_in_the_way(terminal, cable, tmp_path):
    """Plug, find, measure, reach on a real kernel's wire, with a second adapter in the device's subnet."""
    cable.ip("addr", "add", "192.168.1.200/24", "dev", "zd0")
    cable.ip("addr", "add", "10.84.16.9/22", "dev", "zl0", at="laptop")
    cable.wifi("192.168.1.50/24", "192.168.1.201/24")
    before = cable.adapter()
    job = tmp_path / "site.askport"
    screen = terminal(*cable.inside("laptop"), *ASKPORT, "--on-adapter", "--job", str(job))
    screen.until("Which adapter is the cable in?")
    screen.until("zl0")
    while "Use zl0" not in screen.screen():
        screen.keys("Down")
        time.sleep(0.3)
    screen.keys("Enter")
    screen.until("sends nothing")
    climb(screen)
    screen.until("Enter ▸ Use this device: 02:00:00:00:00:99")
    screen.until("Its mask was measured: /24")
    screen.keys("Enter")
    screen.until("Enter ▸ Borrow 192.168.1.")
    screen.keys("Enter")
    screen.until("borrowed 192.168.1.", "can talk: both are in 192.168.1.0/24")
    screen.press("3", "is in 192.168.1.0/24 as well", "sees the laptop in its subnet: it replies straight to it.")
    screen.keys("q")
    screen.until("ended 0", "Gave 192.168.1.")
    assert cable.adapter() == before


def test_what_is_said_while_an_adapter_is_chosen_is_not_missed(terminal, cable, tmp_path):
    """Its first words come once, before Enter: they are seen beside the adapter, and known after it."""
    cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")
    screen = terminal(*cable.inside("laptop"), *ASKPORT, "--job", str(tmp_path / "site.askport"))
    screen.until("zl0", "heard ")
    cable.start("device", "ping", "-c", "1", "192.168.61.254")
    screen.until("02:00:00:00:00:99: It asked for 192.168.61.254 from 192.168.61.7", "Enter ▸ Use zl0.")
    screen.keys("Enter")
    screen.until("Enter ▸ Use this device: 02:00:00:00:00:99", "sends nothing")
    screen.keys("q")
    assert "Recorded in" not in screen.until("ended 0"), "nothing was recorded"
    assert not (tmp_path / "site.askport").exists()


@pytest.mark.by_day(1)
@pytest.mark.parametrize("on_adapter", [True, False])
def test_an_adapter_may_come_and_go_and_come_again_while_the_screen_stands(terminal, cable, tmp_path, on_adapter):
    """A dongle is plugged in, another program takes its address off, it is pulled out, and plugged in again."""
    cable.ip("addr", "add", "192.0.2.7/24", "dev", "zl0", at="laptop")
    cable.ip("route", "add", "default", "via", "192.0.2.1", at="laptop")

    def plug_in():
        cable.ip("link", "add", "zl5", "type", "veth", "peer", "name", "zd5", "netns", cable.device, at="laptop")
        cable.ip("link", "set", "zd5", "address", "02:00:00:00:00:95", "up")
        cable.ip("addr", "add", "192.168.1.200/24", "dev", "zd5")
        cable.ip("link", "set", "zl5", "up", at="laptop")

    where = ["--on-adapter"] if on_adapter else []
    screen = terminal(*cable.inside("laptop"), *ASKPORT, *where, "--job", str(tmp_path / "site.askport"))
    screen.until("zl0 carries the laptop's internet connection", "or point at an adapter")
    plug_in()
    screen.until("Its link has just come up: the cable is in this one.", "Enter ▸ Use zl5.")
    screen.keys("Enter")
    climb(screen)
    screen.until("Enter ▸ Use this device: 02:00:00:00:00:95")
    screen.keys("Enter")
    screen.until("Enter ▸ Borrow 192.168.1.")
    screen.keys("Enter")
    screen.until("borrowed 192.168.1.")
    if on_adapter:
        cable.ip("addr", "flush", "dev", "zl5", at="laptop")
        screen.press("3", "Another program takes 192.168.1.")
        assert wait_for(lambda: "192.168.1." in cable.ip("addr", "show", "zl5", at="laptop"))
    cable.ip("link", "del", "zl5", at="laptop")
    assert "borrowed 192." not in screen.until(
        "zl5 was pulled out, and nothing is left to give back", "Choose an adapter."
    )
    plug_in()
    screen.keys("Enter")
    screen.until("Enter ▸ Use zl5.")
    screen.keys("Enter")
    screen.until("sends nothing")
    screen.keys("q")
    assert "Gave" not in screen.until("ended 0")


@pytest.mark.by_day(1)
@pytest.mark.parametrize("name", ["TERM", "HUP", "INT"])
def test_a_signal_ends_the_screen_as_its_own_key_does(terminal, tmp_path, name):
    screen = terminal("", *ASKPORT, "demo")  # not forked: started by a shell, as people do
    screen.until("No device heard yet")
    shell = screen._tmux("display-message", "-p", "#{pane_pid}").strip()
    (program,) = Path(f"/proc/{shell}/task/{shell}/children").read_text().split()
    os.kill(int(program), getattr(signal, f"SIG{name}"))
    assert "Traceback" not in screen.until("ended 130")
    assert not list(tmp_path.glob("askport-demo-*"))


def test_a_terminal_that_is_lost_without_a_word_ends_the_program(terminal, cable, tmp_path):
    """Its parent waits for it and passes no hang-up on, as make does: the laptop is given back all the same."""
    cable.ip("addr", "add", "192.168.1.200/24", "dev", "zd0")
    before, job = cable.adapter(), tmp_path / "lost.askport"
    screen = terminal("trap : HUP;", *cable.inside("laptop"), *ASKPORT, "--on-adapter", "--job", str(job))
    screen.until("Enter ▸ Use zl0.")
    screen.keys("Enter")
    climb(screen)
    screen.until("Enter ▸ Use this device: 02:00:00:00:00:99")
    screen.keys("Enter")
    screen.until("Enter ▸ Borrow 192.168.1.")
    screen.keys("Enter")
    screen.until("borrowed 192.168.1.")
    assert cable.adapter() != before
    screen.close()
    left = ["pgrep", "-f", f"python[0-9.]* .*{job}"]
    assert wait_for(lambda: cable.adapter() == before and not subprocess.run(left, capture_output=True).stdout)


HOLDS_PORT = (
    "import socket, time; s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM); s.bind(('', 67)); time.sleep(90)"
)


@pytest.mark.night
def test_the_screen_says_that_a_firewall_or_another_server_is_in_the_way(terminal, cable, tmp_path):
    """The device's port opens to a bare question, the laptop's own programs get nothing, and UDP 67 is held."""
    cable.ip("addr", "add", "192.168.1.200/24", "dev", "zd0")
    cable.start("device", sys.executable, "-m", "http.server", "80")
    cable.start("laptop", sys.executable, "-c", HOLDS_PORT)
    cable.drop_all()
    screen = terminal(*cable.inside("laptop"), *ASKPORT, "--on-adapter", "--job", str(tmp_path / "site.askport"))
    screen.until("Use zl0", "A program on this laptop holds the address-server port (UDP 67)")
    screen.keys("Enter")
    for rung in ("◆ greet", "◆ call"):
        screen.until("the laptop")
        screen.keys("+")
        screen.until(rung)
    screen.until("Enter ▸ Use this device: 02:00:00:00:00:99")
    screen.keys("Enter")
    screen.until("Enter ▸ Borrow 192.168.1.")
    screen.keys("Enter")
    screen.until("borrowed 192.168.1.")
    screen.press("3", "a firewall on the laptop drops", "192.168.1.200:80 answers over zl0")
    screen.keys("q")
    screen.until("ended 0")


def test_the_register_is_searched_as_one_types_and_the_handover_is_written(terminal, tmp_path):
    screen = terminal(*ASKPORT, "demo", "--pace", "12")
    for waits, key in (
        ("Enter ▸ Use this device: 00:00:5e:00:53:10", "p"), ("Work list", "Tab"), ("OX-01, planned", "Enter"),
        ("OX-01 oxygen probe head", "p"), ("OX-01, the current device", "BTab"), ("TG-01, planned", "Enter"),
        ("TG-01 tank level gateway", ""), ("Enter ▸ Use this device: 00:00:5e:00:53:10", "Enter"),
        ("Enter ▸ Borrow", "Enter"),
        ("Enter ▸ Fill in its web page", "Enter"), ("Press l to skip", "l"), ("Enter ▸ Record TG-01", "Enter"),
        ("Go on to the next device.", "r"), ("0 of 1 proven", ""),
    ):  # fmt: skip
        screen.until(waits)
        screen.keys(*([key] if key else []))
    screen._tmux("send-keys", "-l", "zzz")
    screen.until("0 found")
    screen.keys("Escape")
    screen.until("Type words")
    screen._tmux("send-keys", "-l", "halden 10.84.16.40")
    screen.until("TG-01", "10.84.16.40/22")
    screen.keys("Enter")
    screen.until("as found", "power cycle: skipped", "set on its page: taken")
    screen.keys("n")
    for asks, typed, *then in (
        ("Note:", "glass cracked", "Enter", "e"),  # a key behind Enter is for what Enter leads to, however fast
        ("the correct tag", "TG-11", "Enter", "o"),
        ("the record not valid", "wrong pump", "Enter"),
    ):  # fmt: skip
        screen.until(asks)
        screen.keys(typed, *then)
    screen.until("glass cracked", "TG-11  00:00", "To be redone: wrong pump")
    screen.keys("Escape")
    screen.until(f"Still to do: {len(scenario.WORK)}")
    screen.keys("F9")
    screen.until("1 of 5: site?")
    screen.keys("West Halls", "Enter")
    for number, asked in enumerate(("customer", "order number", "commissioned by", "technician"), 2):
        screen.until(f"{number} of 5: {asked}?")
        screen.keys("Enter")
    screen.until("Written to", "handover.pdf", "Their fingerprint")
    folder = next(tmp_path.glob("askport-demo-*/demo-handover"))
    assert (folder / "map-10.84.16.0-22.svg").exists()
    cover = subprocess.run(["pdftotext", folder / "handover.pdf", "-"], capture_output=True, text=True).stdout
    assert "Handover: West Halls" in cover
    screen.keys("Escape")
    screen.until("Still to do")
    screen.keys("F9")
    screen.until("Written to")  # what stands on the cover was asked for once
    screen.keys("Escape")
    screen.until("Still to do")
    screen.keys("Escape")  # the search
    screen.until("Type words")
    screen.keys("Escape")
    screen.until("Go on to the next device.")
    screen.leave()


@pytest.mark.night
def test_the_rest_of_a_crate_takes_two_keys_a_unit(terminal):
    """After the first unit: Enter takes one, Enter goes on to the next; the power is cut of the last only."""
    screen = terminal(*ASKPORT, "demo", "--pace", "12", "--first", "OX-01")
    for waits, *keys in (
        ("Enter ▸ Use this device", "Enter"), ("Enter ▸ Borrow", "Enter"), ("Enter ▸ Fill in its web page", "Enter"),
        ("Press l to skip", "F6"), ("Its power is off", "F6"), ("Enter ▸ Record OX-01", "Enter"),
        ("OX-01 is recorded", "g"), ("Power-cycle which units", *"sometimes", "Enter"),
        ("names no units", *["BSpace"] * 9),
        ("Enter takes it", *"last"), ("last unit only", "Enter"), ("Crate, same as OX-01", "Enter"),
        ("as OX-02, like OX-01", "Enter"), ("OX-02 is recorded", "Enter"),
        ("as OX-03, like OX-01", "Enter"), ("OX-03 is recorded", "Enter"),
        ("as OX-04, like OX-01", "Enter"), ("OX-04 is recorded", "Enter"),
        ("as OX-05, like OX-01", "Enter"), ("OX-05 is recorded", "Enter"),
        ("as OX-06, like OX-01", "Enter"), ("and put it back.", "F6"), ("Its power is off", "F6"),
        ("OX-06 is recorded", "Enter"), ("Job list", "r"), ("2 of 6 proven", "Escape"), ("Job list",),
    ):  # fmt: skip
        screen.until(waits)
        screen.keys(*keys)
    screen.leave()


def words(text):
    return set(re.findall(r"[A-Za-zÀ-ÿ]*[aeiouAEIOU][A-Za-zÀ-ÿ]*", text))


@pytest.mark.parametrize("size", [(80, 24), (100, 30), (160, 47)], ids=lambda size: f"{size[0]}x{size[1]}")
def test_in_a_language_that_nobody_speaks_every_text_is_a_phrase_and_none_is_cut(terminal, size):
    """Each is a third longer, marked and accented: a word with plain vowels is a value, or was forgotten."""
    screen = terminal("env", "LANGUAGE=xx", *ASKPORT, "demo", size=size)
    data = Path(scenario.__file__).parent
    values = words("demo.askport askport enp3s0 page MAC IP ICMP CIP DHCP IPv6 A a e o Enter Esc esc Tab GET POST")
    values |= words("".join((data / each).read_text() for each in ("scenario.py", "makers.tsv", "devices.py")))
    values |= words("".join(each.read_text() for each in (data.parent / "kinds").glob("*.toml")))
    seen = [screen.until("Úsé thís dévícé", "192.168.61.7", *(["⟦dévícé··⟧"] if size[0] > 80 else []))]
    at_set = "◆ 4" if size[0] < 100 else "◆ ⟦Sét"
    keys = (("Enter", "Bórrów"), ("Enter", at_set), ("Enter", "skíp thís chéck"), ("F6", "íts pówér ín"),
            ("F6", "púll íts pówér"), ("r", "Sórt"), ("Escape", "◆"))  # fmt: skip
    for key, text in keys:
        screen.press(key, text)
        seen.append(screen.screen())
    for each in seen:
        plain = words(re.sub(r"[0-9a-f]{2}(:[0-9a-f]{2})+", "", each))
        assert [word for word in plain if not any(value.startswith(word) for value in values)] == [], each
        above, *below = re.split("\n─{70,}\n", each)  # what is above may be scrolled
        whole = each if below and size[1] > 40 else "".join([*above.splitlines()[:2], *below])
        assert whole.count("⟦") == whole.count("⟧"), each
