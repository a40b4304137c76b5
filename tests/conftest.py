"""What the tests share: a bench in virtual time, and real kernels in network namespaces."""

import asyncio
import contextlib
import io
import itertools
import os
import resource
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
import timeit
from collections import defaultdict
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

import forked
from askport.bench import scenario
from askport.bench.bench import Bench
from askport.cli.main import run as run_command_line
from askport.edges import job_run, jobfile, kind_files
from crew_database import Database
from forked import Forker, Program

settings.register_profile(
    "ci", derandomize=True, max_examples=20, deadline=None, suppress_health_check=[HealthCheck.too_slow]
)
settings.register_profile("long", max_examples=5000, deadline=None)
settings.load_profile(os.environ.get("HYPOTHESIS_PROFILE", "ci"))

ASKPORT = [str(Path(sys.executable).with_name("askport"))]
LAPTOP, DEVICE = "02:00:00:00:00:01", "02:00:00:00:00:99"


collect_ignore = [
    f"test_{name}.py" for name in ("browsers", "packages", "stick") if f"ASKPORT_{name.upper()}" not in os.environ
]
"""What needs a browser, a built package or a virtual machine has a target of its own in the Makefile."""

_MARKS = {"namespaces": "kernel", "terminal": "screen", "database": "database"}
"""What a fixture needs of the machine: a test is marked by what it uses, and by nothing else."""


AT_NIGHT = "ASKPORT_NIGHT" in os.environ
"""Whether everything is tried at full strength."""


@pytest.hookimpl(tryfirst=True)
def pytest_collection_modifyitems(config, items):
    """Mark tests, before those that are not wanted are left out."""
    for item in items:
        for fixture, mark in _MARKS.items():
            if fixture in item.fixturenames:
                item.add_marker(mark)
    if not AT_NIGHT:
        numbers = defaultdict(itertools.count)
        left = {item for item in items if item.get_closest_marker("night")}
        for item in items:
            if rows := item.get_closest_marker("by_day"):
                left |= {item} if next(numbers[item.parent, item.originalname]) not in rows.args else set()
        config.hook.pytest_deselected(items=list(left))
        items[:] = [item for item in items if item not in left]


def pytest_worker_begins(number):
    """Give a worker what each has for itself: where programs keep their files, what is borrowed, who forks them."""
    home = tempfile.mkdtemp(prefix=f"askport-{number}-")
    for each in ("STATE", "DATA"):
        os.environ[f"XDG_{each}_HOME"] = f"{home}/{each.lower()}"
    if "ASKPORT_ROOM" in os.environ:
        forked.own_mounts("/run/netns", "/run/askport")
    Program.forker = Forker()


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(item, call):
    """Have a failure say what terminals show, what programs logged, what is borrowed, and how busy the machine is."""
    report = yield
    if report.failed and not hasattr(report, "wasxfail"):
        log = Path(os.environ["XDG_STATE_HOME"]) / "askport/askport.log"
        report.sections += [(f"terminal {number}", each.screen()) for number, each in enumerate(Terminal.opened)]
        report.sections += [("askport.log", "\n".join(log.read_text().splitlines()[-30:]))] if log.exists() else []
        report.sections += [(str(each), each.read_text()) for each in Path("/run/askport").glob("*.journal")]
        load, speed = (
            " ".join(f"{each:.1f}" for each in os.getloadavg()),
            timeit.timeit("sum(range(10_000))", number=100),
        )
        report.sections.append(("machine", f"load {load}, {os.cpu_count()} cores, {speed:.3f} s for a million sums"))
    return report


@pytest.hookimpl(trylast=True)
def pytest_sessionfinish(session):
    """A test that was skipped has kept no promise: no run with one passes."""
    told = session.config.pluginmanager.get_plugin("terminalreporter")
    if told and told.stats.get("skipped") and not session.exitstatus:
        session.exitstatus = pytest.ExitCode.TESTS_FAILED


_BEGUN = {}
"""What is made once for all workers."""


def pytest_workers_begin(session):
    """Load and make what takes long, for workers to have."""
    forked.load_everything()
    if any("database" in item.fixturenames for item in session.items):
        _BEGUN["database"] = Database(Path(tempfile.mkdtemp(prefix="askport-pg-")))
        _BEGUN["database"].stop()


def pytest_sessionstart(session):
    """Where no worker is forked, this process is the only one."""
    if not session.config.option.waiting:
        pytest_worker_begins(0)


NEW_CLOCK = "sysctl -qw net.ipv4.tcp_timestamps=2;"
"""What makes a namespace's TCP clock another one, as a start makes that of a device."""


again = pytest.mark.parametrize("run", range(int(os.environ.get("ASKPORT_LIARS", "1"))))
"""A wire that lies is tried as often as ``make liars`` wants."""


def wait_for(condition, seconds=60.0):
    """Return whether something becomes so within a time."""
    deadline, patience = time.monotonic() + seconds, 0.02
    while not condition():
        if time.monotonic() > deadline:
            return False
        time.sleep(patience)
        patience = min(0.2, patience * 1.2)  # looking costs more than waiting
    return True


def children(pid):
    """Return the processes that a process has started."""
    return Path(f"/proc/{pid}/task/{pid}/children").read_text().split()


_ON_FILES_ONLY = frozenset({"crew", "demo", "kinds", "plan", "reach", "read", "register", "report"})
"""Commands that go near no adapter and no rights."""


def askport(*arguments, prefix=(), **options):
    """Run the command line as a user does; where nothing of a process of its own matters, in this one."""
    if not prefix and not options and arguments[0] in _ON_FILES_ONLY:
        return _askport_here([str(each) for each in arguments])
    command = [*prefix, *ASKPORT, *map(str, arguments)]
    options = {"stdout": subprocess.PIPE, "stderr": subprocess.PIPE, "text": True, "timeout": 60, **options}
    seconds, said = options.pop("timeout"), options.pop("input", None)
    if said is not None:
        options["stdin"] = subprocess.PIPE
    with started(command, **options) as process:
        try:
            out, told = process.communicate(said, timeout=seconds)
        except BaseException:
            process.kill()
            raise
    return subprocess.CompletedProcess(command, process.returncode, out, told)


def started(command, **options):
    """Start a command; the program itself, in a namespace or in none, is forked."""
    command = [str(each) for each in command]
    if program_of(command) is None or "preexec_fn" in options:
        return subprocess.Popen(command, **options)
    namespace, own = program_of(command)
    return Program(own, namespace, **options)


def program_of(command):
    """Return the namespace that a command has the program run in, and its own part; None where it is another."""
    command = [str(each) for each in command]
    namespace, own = (command[3], command[4:]) if command[:3] == ["ip", "netns", "exec"] else (None, command)
    return (namespace, own) if own[:1] == ASKPORT else None


def _askport_here(arguments):
    """Run a command in this process, which its signals, its hook and its temporary values are taken from again."""
    kept = {each: signal.getsignal(each) for each in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP, signal.SIGALRM)}
    hook, said, told = sys.unraisablehook, io.StringIO(), io.StringIO()
    try:
        with contextlib.redirect_stdout(said), contextlib.redirect_stderr(told):
            status = run_command_line(arguments)
    finally:
        sys.unraisablehook = hook
        for each, handler in kept.items():
            signal.signal(each, handler)
    return subprocess.CompletedProcess(arguments, int(status), said.getvalue(), told.getvalue())


@pytest.fixture(scope="session")
def postgres():
    """Start a PostgreSQL of our own, once."""
    made = Database(Path(tempfile.mkdtemp(prefix="askport-pg-")), _BEGUN.get("database"))
    yield made
    made.remove()


@pytest.fixture
def database(postgres):
    """Give a database of a crew that has nothing in it yet."""
    postgres.anew()
    return postgres


def askport_in_bounds(*arguments):
    """Run a command on a hostile file with 1 GB of memory, and a minute."""
    return askport(*arguments, bounds=[(resource.RLIMIT_AS, 1 << 30)])


@pytest.fixture
def practice(tmp_path):
    """Return a function that puts a unit on a bench in virtual time and begins its way."""

    def begin(tag, job="job.askport", kinds=True, on_adapter=False):
        bench = Bench(scenario.LAPTOP_MAC, laptop=scenario.LAPTOP)
        bench.beside = None if on_adapter else bench.beside
        item = next(each.work for each in scenario.UNITS if each.work.tag == tag)
        bench.plug(scenario.stand_in(tag))
        run = job_run.JobRun(
            wire=bench, adapter=bench, channels=bench.streams, own=scenario.LAPTOP,
            job=jobfile.JobFile(tmp_path / job, create=True), work=[item], sites=(scenario.SITE,), maker=scenario.maker,
            kinds=[each.kind for each in kind_files.known_kinds()[0] if kinds],
        )  # fmt: skip
        return bench, run

    return begin


def pass_time(bench, run, span=60.0, until=lambda: False):
    """Let virtual time pass, at the most ``span`` seconds of it."""
    asyncio.run(run.driver.run(until=until, longest_until=bench.now() + span))


AT_HOME = """
home=$1; shift
mkdir -p "$home"; cp /etc/passwd /etc/group "$home"
for user in avahi avahi-autoipd _lldpd; do
    grep -q "^$user:" "$home/passwd" && continue
    echo "$user:x:0:0::/:/bin/false" >>"$home/passwd"; echo "$user:x:0:" >>"$home/group"
done
mount --make-rprivate / 2>/dev/null; mount -t tmpfs none /run && mkdir -p /run/avahi-daemon /run/lldpd
mount --bind "$home/passwd" /etc/passwd; mount --bind "$home/group" /etc/group
exec "$@"
"""


APART = """
home=$1
mount --make-rprivate /
umount -l /sys; mount -t sysfs -o ro sysfs /sys  # read-only, managers do without udev
mount -t tmpfs tmpfs /run; mkdir -p /run/dbus
cat >"$home/dbus.conf" <<END
<!DOCTYPE busconfig PUBLIC "-//freedesktop//DTD D-Bus Bus Configuration 1.0//EN"
 "http://www.freedesktop.org/standards/dbus/1.0/busconfig.dtd">
<busconfig><type>system</type><listen>unix:path=/run/dbus/system_bus_socket</listen><auth>EXTERNAL</auth>
<policy context="default"><allow user="*"/><allow own="*"/><allow send_destination="*" eavesdrop="true"/>
<allow eavesdrop="true"/></policy></busconfig>
END
dbus-daemon --config-file="$home/dbus.conf" --fork --print-pid >"$home/dbus.pid" # its own users are not installed
"""
MANAGERS = {
    "NetworkManager": """
mount -t tmpfs tmpfs /var/lib; mkdir -p /var/lib/NetworkManager "$home/conf.d" "$home/connections" /run/NetworkManager
cat >"$home/conf" <<END
[main]
plugins=keyfile
[keyfile]
path=$home/connections
[device]
match-device=interface-name:zl0
managed=1
END
umask 077
cat >"$home/connections/site.nmconnection" <<END
[connection]
id=site
type=ethernet
interface-name=zl0
[ipv4]
method=manual
address1=192.168.7.5/24,192.168.7.1
[ipv6]
method=disabled
END
exec NetworkManager --no-daemon --config="$home/conf" --config-dir="$home/conf.d" --system-config-dir="$home/conf.d"
""",
    "/lib/systemd/systemd-networkd": """
mkdir -p /run/systemd/network /run/systemd/netif/links /run/systemd/netif/leases
chown -R systemd-network /run/systemd/netif
cat >/run/systemd/network/20-site.network <<END
[Match]
Name=zl0
[Network]
Address=192.168.7.5/24
Gateway=192.168.7.1
IPv6AcceptRA=no
END
exec /lib/systemd/systemd-networkd
""",
    "dhcpcd": """
mkdir -p /run/dhcpcd
mount -t tmpfs tmpfs /var/lib; mkdir -p /var/lib/dhcpcd
cat >"$home/conf" <<END
allowinterfaces zl0
noipv6
nodev
noarp
interface zl0
static ip_address=192.168.7.5/24
static routers=192.168.7.1
END
exec dhcpcd -B -f "$home/conf" -c /bin/true
""",
}


class Cable:
    """A laptop and a device namespace joined by a virtual cable: zl0 at the laptop's end, zd0 at the device's."""

    _count = itertools.count()

    def __init__(self):
        stamp = f"{os.getpid()}-{next(self._count)}"
        self.laptop, self.device = f"askport-l{stamp}", f"askport-d{stamp}"
        self._started, self._more = [], []
        try:
            self._join()
        except subprocess.CalledProcessError as error:
            self.close()
            raise AssertionError(error.stderr) from error

    def _join(self):
        for name in (self.laptop, self.device):
            _ip("netns", "add", name)
        _ip("link", "add", "zl0", "netns", self.laptop, "type", "veth", "peer", "name", "zd0", "netns", self.device)
        # Without IPv6, whose address comes up in its own time, the adapter can be compared before and after.
        self.ip("link", "set", "zl0", "address", LAPTOP, "addrgenmode", "none", at="laptop")
        self.ip("link", "set", "zl0", "up", at="laptop")
        self.ip("link", "set", "zd0", "address", DEVICE, "up")
        assert wait_for(lambda: "LOWER_UP" in self.ip("link", "show", "zl0", at="laptop"))

    def ip(self, *arguments, at="device"):
        return _ip("-n", getattr(self, at), *arguments)

    def drop_all(self):
        """Have a firewall on the laptop drop what comes in over the cable."""
        rules = "table inet t {\nchain i {\ntype filter hook input priority 0;\niifname zl0 drop\n}\n}\n"
        nft = [*self.inside("laptop"), "nft", "-f", "-"]
        subprocess.run(nft, input=rules, text=True, check=True)

    def in_laptop(self, *command):
        """Run a command at the laptop's end."""
        return subprocess.run([*self.inside("laptop"), *command], check=True, capture_output=True, text=True).stdout

    def in_device(self, *command):
        """Run a command at the device's end."""
        return subprocess.run([*self.inside("device"), *command], check=True, capture_output=True, text=True).stdout

    def inside(self, at):
        return ["ip", "netns", "exec", getattr(self, at)]

    def command(self, *arguments):
        return [*ASKPORT, *map(str, arguments)]

    def askport(self, *arguments, **options):
        return askport(*arguments, prefix=self.inside("laptop"), **options)

    def start(self, at, *command, **options):
        """Start a program that ends with the test at the latest."""
        options = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, **options}
        process = started([*self.inside(at), *command], **options)
        self._started.append(process)
        return process

    def start_in(self, name, *command, **options):
        """Start a program in one more namespace."""
        command = ["ip", "netns", "exec", name, *command]
        process = started(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, **options)
        self._started.append(process)
        return process

    @contextlib.contextmanager
    def door(self, *arguments):
        """Open a door, give where it leads in, and close it with Ctrl-C."""
        door = [*self.inside("laptop"), *self.command("door", "zl0", *arguments)]
        process = started(door, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
        try:
            yield process.stdout.readline().strip()
        finally:
            process.send_signal(signal.SIGINT)
            assert process.wait(60) == 130, process.stderr.read()

    def wifi(self, own, other):
        """Give the laptop a second adapter with a host behind it."""
        name = f"{self.device}-w"
        self._more.append(name)
        _ip("netns", "add", name)
        _ip("link", "add", "wl0", "netns", self.laptop, "type", "veth", "peer", "name", "w0", "netns", name)
        self.ip("link", "set", "wl0", "up", at="laptop")
        self.ip("addr", "add", own, "dev", "wl0", at="laptop")
        _ip("-n", name, "link", "set", "w0", "up")
        _ip("-n", name, "addr", "add", other, "dev", "w0")

    @contextlib.contextmanager
    def managed(self, manager):
        """Run a real network manager with 192.168.7.5/24 for zl0; give what runs a command beside it."""
        home = Path(tempfile.mkdtemp())
        script = APART + MANAGERS[manager]
        process = self.start("laptop", "unshare", "-m", "sh", "-c", script, "sh", str(home))
        try:
            deadline = time.monotonic() + 60
            while "default via 192.168.7.1" not in self.adapter():
                assert time.monotonic() < deadline, f"{manager} does not start"
                time.sleep(0.2)
            yield ["nsenter", "-t", str(process.pid), "-m", "-n"]
        finally:
            if (home / "dbus.pid").exists():
                os.kill(int((home / "dbus.pid").read_text()), signal.SIGTERM)
            process.terminate()
            process.wait()
            shutil.rmtree(home, ignore_errors=True)

    def listens(self, port, over="tcp", at=None):
        """Wait until something listens on a port, as the kernel's own table has it; ``packet``: on the wire itself."""
        wanted = "^[0-9a-f]" if over == "packet" else rf":{port:04X} [0-9A-F:]* 0[A7] "
        look = ["ip", "netns", "exec", at or self.device, "sh", "-c", f"grep -q '{wanted}' /proc/net/{over}*"]
        assert wait_for(lambda: not subprocess.run(look, capture_output=True).returncode), f"nothing listens: {port}"

    def add_namespace(self, name):
        """Make one more namespace, which goes with the cable."""
        self._more.append(name)
        _ip("netns", "add", name)

    def bridge(self):
        """Make the device's end a switch."""
        self.ip("link", "add", "br0", "type", "bridge")
        self.ip("link", "set", "zd0", "master", "br0")
        self.ip("link", "set", "br0", "addrgenmode", "none", "up")

    def partner(self, *command, at=None):
        """Start a device-side program at the device's end or in one more namespace, in a /run of its own."""
        home = Path(tempfile.gettempdir()) / f"home-{self.device}"
        command = ["sh", "-c", AT_HOME, "sh", str(home), *command]
        return self.start_in(at, *command) if at else self.start("device", *command)

    def behind(self, bridge, mac, interface):
        """Put one more namespace with an address behind a bridge at the device's end."""
        name = f"{self.device}-{len(self._more)}"
        self._more.append(name)
        _ip("netns", "add", name)
        port = f"p{len(self._more)}"
        self.ip("link", "add", port, "master", bridge, "type", "veth", "peer", "name", "e0", "netns", name)
        self.ip("link", "set", port, "addrgenmode", "none", "up")
        _ip("-n", name, "link", "set", "e0", "address", mac, "up")
        if interface:
            _ip("-n", name, "addr", "add", interface, "dev", "e0")
        return name

    def adapter(self):
        """Return the laptop's adapter exactly as the kernel tells it."""
        return self.ip("addr", "show", "zl0", at="laptop") + self.ip("route", "show", at="laptop")

    def close(self):
        for process in self._started:
            process.kill()
            process.wait()
        for name in (self.laptop, self.device, *self._more):
            # What a server has started for somebody lives on without it.
            left = subprocess.run(["ip", "netns", "pids", name], capture_output=True, text=True).stdout.split()
            for each in left:
                with contextlib.suppress(ProcessLookupError):
                    os.kill(int(each), signal.SIGKILL)
            subprocess.run(["ip", "netns", "del", name], capture_output=True)


def _ip(*arguments):
    return subprocess.run(["ip", *arguments], check=True, capture_output=True, text=True).stdout


@pytest.fixture(scope="session")
def namespaces():
    """Whoever uses it needs root, and the room that tools/test-room makes."""
    assert "ASKPORT_ROOM" in os.environ, "this test runs in a room of its own: tools/test-room .venv/bin/pytest …"


@pytest.fixture
def cable(namespaces):
    made = Cable()
    yield made
    made.close()


LENDS_ITS_TERMINAL = "cd {home}; env -0 >lent; tty >terminal; read status <status; echo ended $status; sleep 600"


class Terminal:
    """A program in a terminal of its own."""

    opened = []
    """Those that are open now."""

    def __init__(self, home, *command, size=(160, 47)):
        self._socket, self._home, self._program = str(home / "tmux"), home, None
        columns, lines = map(str, size)
        is_ours = program_of(command) is not None
        shell = LENDS_ITS_TERMINAL.format(home=home) if is_ours else f"{' '.join(command)}; echo ended $?; sleep 600"
        if is_ours:
            os.mkfifo(home / "status")
        self._tmux("-f", "/dev/null", "new-session", "-e", f"TMPDIR={home}", "-d", "-x", columns, "-y", lines, shell)
        if is_ours:
            self._fork(command)

    def _fork(self, command):
        """Start the program on the terminal that the pane lends, and tell the pane how it ended."""
        assert wait_for(lambda: (self._home / "terminal").exists() and (self._home / "terminal").read_text(), 60)
        lent = (self._home / "lent").read_text().split("\0")
        environment = dict(each.partition("=")[::2] for each in lent if each)
        namespace, own = program_of(command)
        with open((self._home / "terminal").read_text().strip(), "r+b", buffering=0) as opened:
            self._program = Program(own, namespace, lends_terminal=True, stdin=opened, stdout=opened, stderr=opened,
                                    env=environment, start_new_session=True)  # fmt: skip

        def tell():
            status = self._program.wait()
            (self._home / "status").write_text(f"{status if status >= 0 else 128 - status}\n")

        threading.Thread(target=tell, daemon=True).start()

    def _tmux(self, *arguments):
        size_free = {name: value for name, value in os.environ.items() if name not in ("COLUMNS", "LINES")}
        command = ["tmux", "-S", self._socket, *arguments]
        return subprocess.run(command, capture_output=True, text=True, env=size_free).stdout

    def keys(self, *keys):
        self._tmux("send-keys", *keys)

    def screen(self):
        return self._tmux("capture-pane", "-p")

    def until(self, *texts, seconds=90.0):
        """Wait until all the texts stand on the screen, which a terminal draws in pieces; return the screen."""
        deadline = time.monotonic() + seconds
        while missing := [text for text in texts if text not in (screen := self.screen())]:
            assert time.monotonic() < deadline, f"never saw {missing}:\n{screen}"
            time.sleep(0.25)
        return screen

    def press(self, key, *texts):
        """Press a key until what it does is seen: one that comes before the screen is ready has no effect."""
        deadline = time.monotonic() + 90
        while not all(text in self.screen() for text in texts):
            assert time.monotonic() < deadline, f"{key}: never saw {texts}:\n{self.screen()}"
            self.keys(key)
            wait_for(lambda: all(text in self.screen() for text in texts), 5)

    def leave(self):
        """Escape and q, which sent together would be one key to a terminal."""
        self.keys("Escape")
        time.sleep(0.5)
        self.keys("q")
        self.until("ended 0")

    def close(self):
        self._tmux("kill-server")
        if self._program is not None and self._program.poll() is None:
            self._program.kill()
            self._program.wait()


@pytest.fixture
def terminal(tmp_path):
    """Start programs in terminals of their own."""

    def start(*command, **options):
        # Each has a server of its own.
        home = tmp_path / f"terminal-{len(Terminal.opened)}" if Terminal.opened else tmp_path
        home.mkdir(exist_ok=True)
        Terminal.opened.append(Terminal(home, *command, **options))
        return Terminal.opened[-1]

    yield start
    while Terminal.opened:
        Terminal.opened.pop().close()
