"""What does not fit together in a job file is written down in sentences, and never settled silently."""

from collections.abc import Iterable, Sequence

from sqlalchemy import Connection, or_, select
from sqlalchemy.dialects.sqlite import insert as upsert

from askport.core.crew.differences import apart, differences, planned_apart
from askport.core.register import chain, entries, in_order, visits
from askport.edges.job_tables import CONFLICTS, DEVICES, JOURNAL


def name(connection: Connection, sentences: Iterable[str]) -> None:
    """Write sentences down; what is settled stays so."""
    for sentence in sentences:
        connection.execute(upsert(CONFLICTS).values(sentence=sentence).on_conflict_do_nothing())


def name_differences(connection: Connection, rows: Iterable[visits.Row], plan: Iterable[chain.Line], own: str) -> None:
    """Write down what members say differently of devices that were touched, and of rows of the plan."""
    for row in rows:
        same = or_(DEVICES.c.tag == row.tag, DEVICES.c.left == (int(row.left) if row.left else None))
        found = connection.execute(select(DEVICES.c.row).where(same, DEVICES.c.id != row.id)).scalars()
        others = [visits.Row.model_validate_json(each) for each in found]
        name(connection, (*differences(row, others, own), *apart(row, own)))
    name(connection, planned_apart(plan, own))


def name_odd_times(connection: Connection, lines: Sequence[chain.Line], own: str) -> None:
    """Write down which of some lines have a time that cannot be; of several in a row the first."""
    held: dict[object, chain.Line] = {line.number: line for line in lines} | {line.hash: line for line in lines}

    def line_at(column: str, value: object) -> chain.Line | None:
        if value not in held:
            found = connection.execute(select(JOURNAL).where(JOURNAL.c[column] == value).limit(1)).mappings().first()
            if found is None:
                return None
            held[value] = chain.Line.model_validate(dict(found))
        return held[value]

    for line in lines:
        if isinstance(line.entry, entries.Kept):
            continue  # dated as its last frame
        before = line_at("number", line.number - 1) if line.after is None else line_at("hash", line.after)
        upon = filter(None, (line_at("hash", each) for each in line.entry.upon))
        if not (before and in_order.is_ahead(before.at, before.pushed) and in_order.is_ahead(line.at, line.pushed)):
            name(connection, filter(None, [in_order.odd_time(line, filter(None, (before, *upon)), own)]))
