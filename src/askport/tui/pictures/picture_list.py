"""The picture of each step."""

from collections.abc import Callable

from askport.core.visit.session import Session
from askport.core.visit.steps import Step
from askport.tui.ink import Ink
from askport.tui.pictures.find_picture import find_lines
from askport.tui.pictures.proving_picture import prove_lines
from askport.tui.pictures.reach_picture import reach_lines
from askport.tui.pictures.record_picture import record_lines
from askport.tui.pictures.setting_picture import set_lines

Picture = Callable[[Session, int, float], list[Ink]]
PICTURES: dict[Step, Picture] = {
    Step.PLUG: find_lines,
    Step.FIND: find_lines,
    Step.REACH: reach_lines,
    Step.SET: set_lines,
    Step.PROVE: prove_lines,
    Step.RECORD: record_lines,
}
