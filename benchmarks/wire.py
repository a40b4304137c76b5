"""The real wire: what is lost in a flood, how soon a frame is a belief, and whether a sweep keeps its rate.

Each part runs in network namespaces made for it, as root; its programs run for a bounded number of frames.
"""

import json
import os
import subprocess
import sys
from pathlib import Path
from statistics import quantiles

from namespaces import cable

_HERE = Path(__file__).parent
_ASKPORT = str(Path(sys.executable).with_name("askport"))
_PLANTED = 10_000


def _inside(namespace: str, *command: str) -> list[str]:
    return ["ip", "netns", "exec", namespace, *command]


def _no_root(what: str) -> bool:
    if os.geteuid() != 0:
        print(f"{what}: not measured without root")
        return True
    return False


def lost_in_a_flood() -> None:
    """Plant relevant frames in a full-speed flood, and count those that were not heard."""
    if _no_root("lost in a flood"):
        return
    with cable() as (laptop, device):
        listener = subprocess.Popen(
            _inside(laptop, sys.executable, str(_HERE / "listener.py"), str(_PLANTED)),
            stdout=subprocess.PIPE,
            text=True,
        )
        assert listener.stdout is not None
        listener.stdout.readline()  # it is ready
        flood = _inside(device, sys.executable, str(_HERE / "flood.py"), str(_PLANTED))
        sent = json.loads(subprocess.run(flood, check=True, capture_output=True, text=True).stdout)
        heard = json.loads(listener.communicate(timeout=120)[0])
    print(
        f"lost in a flood: {_PLANTED - heard['planted']} of {_PLANTED:,} planted frames, beside {sent['others']:,} "
        f"others at {sent['rate']:,.0f} a second (kernel drops: {heard['lost']})"
    )


def time_to_belief() -> None:
    """Take the time from a frame's arrival in the kernel to the belief that it makes certain."""
    if _no_root("time to a belief"):
        return
    with cable() as (laptop, device):
        listener = subprocess.Popen(
            _inside(laptop, sys.executable, str(_HERE / "listener.py"), "500", "--beliefs"),
            stdout=subprocess.PIPE,
            text=True,
        )
        assert listener.stdout is not None
        listener.stdout.readline()
        subprocess.run(_inside(device, sys.executable, str(_HERE / "flood.py"), "500", "--slowly"), check=True,
                       capture_output=True)  # fmt: skip
        times = json.loads(listener.communicate(timeout=120)[0])["times"]
    p95 = quantiles(times, n=20)[-1]
    worst = max(times)
    print(f"time to a belief: p95 {p95 * 1e3:.2f} ms, worst {worst * 1e3:.1f} ms, over {len(times)} revealing frames")


def sweep_rate() -> None:
    """Sweep at three rates, and compare the real rate with the one asked for."""
    if _no_root("sweep rate"):
        return
    with cable() as (laptop, _):
        for rate, within in ((1_000, "172.16.0.0/20"), (20_000, "172.16.0.0/15"), (100_000, "172.16.0.0/12")):
            command = _inside(laptop, _ASKPORT, "find", "zl0", "--loudness", "sweep", "--within", within, "--rate",
                              str(rate), "--json")  # fmt: skip
            swept = json.loads(subprocess.run(command, capture_output=True, text=True).stdout)["swept"]
            share = swept["rate"] / rate
            print(f"sweep: {share:.1%} of the {rate:,} a second asked for, over {swept['questions']:,} addresses")
