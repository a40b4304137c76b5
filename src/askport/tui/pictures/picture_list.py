"""The picture of each step."""

from collections.abc import Callable

from askport.core.visit import session, steps
from askport.tui.ink import Ink
from askport.tui.pictures import find_picture, proving_picture, reach_picture, record_picture, setting_picture

Picture = Callable[[session.Session, int, float], list[Ink]]
PICTURES: dict[steps.Step, Picture] = {
    steps.Step.PLUG: find_picture.find_lines,
    steps.Step.FIND: find_picture.find_lines,
    steps.Step.REACH: reach_picture.reach_lines,
    steps.Step.SET: setting_picture.set_lines,
    steps.Step.PROVE: proving_picture.prove_lines,
    steps.Step.RECORD: record_picture.record_lines,
}
