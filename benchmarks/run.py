"""Measure what the product promises about speed, as ratios within one run (``make benchmarks``)."""

import sys

import beliefs
import crew
import decoding
import drawing
import fuzz
import painting
import register
import starting
import switch
import wire

BENCHMARKS = {
    "start": starting.startup,
    "paint": starting.first_paint,
    "decode": decoding.beside_headers,
    "beliefs": beliefs.many_beside_few,
    "draw": drawing.many_devices,
    "keys": painting.key_to_paint,
    "register": register.many_beside_few,
    "loss": wire.lost_in_a_flood,
    "belief": wire.time_to_belief,
    "sweep": wire.sweep_rate,
    "crew": crew.meeting,
    "switch": switch.all_beside_one,
    "fuzz": fuzz.short_run,
}

if __name__ == "__main__":
    for name in sys.argv[1:] or BENCHMARKS:
        BENCHMARKS[name]()
