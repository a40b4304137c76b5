"""Job files of earlier formats, brought up to date."""

from hashlib import sha256

from sqlalchemy import Connection, insert, inspect, select, text, update

from askport.edges.job_tables import CAPTURES, JOURNAL, METADATA, SEAL, VERSION


def bring_up_to_date(connection: Connection) -> None:
    """Give a file the tables of today: strands came with format 4, the seal and the frames with format 3.

    Format 5 has the tables of format 4; what its register adds up to is another. Members came with format 6, and when
    a crew had a line with format 7.
    """
    named = inspect(connection)
    columns = {column["name"] for column in named.get_columns(JOURNAL.name)}
    if "place" not in columns:
        connection.execute(text("ALTER TABLE journal ADD COLUMN place INTEGER NOT NULL DEFAULT 0"))
        connection.execute(text("ALTER TABLE journal ADD COLUMN after VARCHAR"))
        connection.execute(update(JOURNAL).values(place=JOURNAL.c.number))
    for name in ("member", "pushed"):
        if name not in columns:
            connection.execute(text(f"ALTER TABLE journal ADD COLUMN {name} VARCHAR"))
    was_sealed, had_frames = (named.has_table(each) for each in (SEAL.name, "frames"))
    METADATA.create_all(connection)
    if not was_sealed:
        last = connection.execute(select(JOURNAL).order_by(JOURNAL.c.number.desc())).first()
        count, hash_ = (last.number, last.hash) if last else (0, "")
        connection.execute(insert(SEAL).values(number=1, count=count, hash=hash_))
    if had_frames:
        for (capture,) in connection.execute(text("SELECT pcapng FROM frames")).all():
            kept = insert(CAPTURES).prefix_with("OR IGNORE")
            connection.execute(kept.values(sha256=sha256(capture).hexdigest(), pcapng=capture))
        connection.execute(text("DROP TABLE frames"))
    connection.execute(text(f"PRAGMA user_version = {VERSION}"))
