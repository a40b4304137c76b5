"""The laptop's end of a benchmark: hears through the product's own keeper and wire, and says what came."""

import asyncio
import json
import sys

from askport.core.finding.clues import Belief
from askport.core.finding.finder import Finder
from askport.core.wire import Frame, hear
from askport.edges.keeper_client import Keeper

_SILENCE_S = 3.0


async def planted(keeper: Keeper, count: int) -> dict[str, object]:
    """Count the planted frames: ARP questions for 10.0.0.0 upward."""
    seen: set[bytes] = set()
    while len(seen) < count:
        frames = await keeper.wire.wait(keeper.wire.now() + _SILENCE_S)
        if not frames:
            break
        seen |= {frame.data[38:42] for frame in frames if frame.data[12:14] == b"\x08\x06"}
    return {"planted": len(seen), "lost": keeper.wire.counts().lost}


async def beliefs(keeper: Keeper, count: int) -> dict[str, object]:
    """Take the time from each frame's arrival to the belief in its sender's address."""
    times: list[float] = []
    while len(times) < count:
        frames: list[Frame] = await keeper.wire.wait(keeper.wire.now() + _SILENCE_S)
        if not frames:
            break
        for frame in frames:
            finder = Finder([keeper.mac], now=frame.at)
            finder.receive(hear(frame))
            (device,) = finder.devices()
            if device.best and device.best.belief is Belief.CERTAIN:
                times.append(keeper.wire.now() - frame.at)
    return {"times": times}


def main() -> None:
    """Listen until everything has come."""
    count = int(sys.argv[1])
    with Keeper().take("zl0") as keeper:
        print("ready", flush=True)
        work = beliefs if "--beliefs" in sys.argv else planted
        print(json.dumps(asyncio.run(work(keeper, count))))


main()
