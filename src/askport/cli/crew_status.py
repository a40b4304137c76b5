"""How a job file and its crew stand to each other, in sentences and as a document."""

from contextlib import closing
from pathlib import Path
from typing import TYPE_CHECKING, Any

from askport.cli.opened_jobs import open_job
from askport.core.crew.seals import crew_fingerprint
from askport.core.errors import AskPortError, BadInput
from askport.core.phrases import phrase, phrase_of
from askport.core.text import display_text
from askport.edges.crew.reaching import is_url

if TYPE_CHECKING:
    from askport.core.crew.seals import Member
    from askport.edges.crew.server import InHand, News


def _asked(url: str, after: int) -> "tuple[News, InHand]":
    from askport.edges.crew.server import Server

    with closing(Server(url)) as server:
        return server.news(after, most=1), server.in_hand()


def members_of(where: str) -> "list[Member]":
    """Return the members as a database has them, or as a job file knows them.

    Raises:
        BadInput: the job belongs to no crew.
        MachineRefused: the database is not reached.
    """
    if is_url(where):
        from askport.edges.crew.belonging import NEWEST

        return _asked(where, NEWEST)[0].members
    from askport.edges.crew.job_part import members_in

    with open_job(Path(where)).engine.connect() as connection:
        found = members_in(connection)
    if not found:
        raise BadInput("'{where}' belongs to no crew: 'askport crew join' joins one.", where=display_text(where, 120))
    return found


def status_of(where: str) -> tuple[dict[str, Any], list[str]]:
    """Return how it stands, as a document and in sentences; a database that is not reached is no fault.

    Raises:
        BadInput: the job belongs to no crew.
        MachineRefused: the database that was named is not reached.
    """
    if is_url(where):
        from askport.edges.crew.belonging import NEWEST

        news, hand = _asked(where, NEWEST)
        told: dict[str, Any] = {"schema": "askport.crew/1", "site": news.site, "crew": news.crew, "reached": True}
        return told | _hand(hand) | {"members": len(news.members)}, [
            phrase(
                "The crew of {site}: {count}.",
                site=display_text(news.site, 60),
                count=_count(len(news.members), "member"),
            ),
            *_in_hand(hand),
        ]
    from askport.edges.crew import job_part

    job = open_job(Path(where))
    crew = job.crew
    if crew is None:
        raise BadInput("'{where}' belongs to no crew: 'askport crew join' joins one.", where=display_text(where, 120))
    with job.engine.connect() as connection:
        waits, heads = job_part.waiting(connection), job_part.strand_heads(connection)
        members, forks = job_part.members_in(connection), job_part.forks_in(connection)
        block = job_part.block_in(connection)
    told = {
        "schema": "askport.crew/1", "site": crew.site, "crew": crew.crew, "member": crew.member, "url": crew.url,
        "members": len(members), "waiting": waits, "fingerprint": crew_fingerprint(heads), "forks": forks,
        "conflicts": job.register.open_conflicts(), "block": [str(each) for each in block],
    }  # fmt: skip
    who, site = display_text(crew.member or "office", 40), display_text(crew.site, 60)
    said = [
        phrase("{who} in the crew of {site}, {count}.", who=who, site=site, count=_count(len(members), "member")),
        phrase_of(waits, "{count} line waits to be pushed.", "{count} lines wait to be pushed."),
        phrase("Fingerprint: {told}.", told=told["fingerprint"]),
        *(f"! {each}" for each in (*map(_forked, forks), *told["conflicts"])),
    ]
    try:
        news, hand = _asked(crew.url, crew.pulled)
    except AskPortError as error:
        return told | {"reached": False, "because": error.message}, [*said, error.message]
    there = max(0, news.last - crew.pulled)
    told |= {"reached": True, "pushes_there": there} | _hand(hand)
    return told, [
        *said,
        phrase("{count} of others to be read.", count=_count(there, "push", "pushes")),
        *_in_hand(hand),
    ]


def _forked(member: str) -> str:
    name = display_text(member, 40)
    return phrase(
        "{name} wrote on from one entry twice: an older copy was put back, or two laptops use "
        "the name. Nothing is lost.",
        name=name,
    )


def _count(number: int, one: str, more: str = "") -> str:
    return f"1 {one}" if number == 1 else f"{number} {more or one + 's'}"


def _hand(hand: "InHand") -> dict[str, Any]:
    return {"in_hand": [{"what": each.what, "member": each.member} for each in hand.claims]}


def _in_hand(hand: "InHand") -> list[str]:
    return [
        phrase("{member} has {what} in hand.", member=display_text(each.member, 40), what=display_text(each.what, 60))
        for each in hand.claims
    ]
