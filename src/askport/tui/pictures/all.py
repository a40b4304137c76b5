"""The picture of each step."""

from collections.abc import Callable

from askport.core.session import Session
from askport.core.steps import Step
from askport.tui.ink import Ink
from askport.tui.pictures.find import find_lines
from askport.tui.pictures.proving import prove_lines
from askport.tui.pictures.reach import reach_lines
from askport.tui.pictures.record import record_lines
from askport.tui.pictures.setting import set_lines

Picture = Callable[[Session, int, float], list[Ink]]
PICTURES: dict[Step, Picture] = {
    Step.PLUG: find_lines,
    Step.FIND: find_lines,
    Step.REACH: reach_lines,
    Step.SET: set_lines,
    Step.PROVE: prove_lines,
    Step.RECORD: record_lines,
}
