"""The steps of the job, and the phases that a session goes through in them."""

from enum import Enum, StrEnum, auto


class Step(StrEnum):
    """The steps of the job."""

    PLUG = "Plug"
    FIND = "Find"
    REACH = "Reach"
    SET = "Set"
    PROVE = "Prove"
    RECORD = "Record"


class Phase(Enum):
    """Where the session stands, with the step that it belongs to."""

    PLUGGING = auto(), Step.PLUG
    FINDING = auto(), Step.FIND
    MEASURING = auto(), Step.FIND
    CHOOSING = auto(), Step.REACH
    MAY_BORROW = auto(), Step.REACH
    BORROWING = auto(), Step.REACH
    TRYING_PORTS = auto(), Step.REACH
    PREPARING = auto(), Step.SET
    MAY_SET = auto(), Step.SET
    BORROWING_TO_SET = auto(), Step.SET
    SETTING = auto(), Step.SET
    NOT_SET = auto(), Step.SET
    MAY_KEEP = auto(), Step.SET
    KEEPING = auto(), Step.SET
    MAY_PROVE = auto(), Step.PROVE
    BORROWING_TO_PROVE = auto(), Step.PROVE
    PROVING = auto(), Step.PROVE
    NOT_PROVEN = auto(), Step.PROVE
    POWER_CYCLE = auto(), Step.PROVE
    PROVING_AGAIN = auto(), Step.PROVE
    FORGOTTEN = auto(), Step.PROVE
    MAY_RECORD = auto(), Step.RECORD
    RECORDED = auto(), Step.RECORD

    @property
    def step(self) -> Step:
        """The step of the job."""
        step: Step = self.value[1]
        return step
