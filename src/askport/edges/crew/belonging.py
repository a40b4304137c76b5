"""Having a job file join a crew, and leave it."""

from dataclasses import replace
from ipaddress import IPv4Address

from sqlalchemy import text

from askport.core.crew import dealing, seals
from askport.core.errors import BadInput, Refused
from askport.core.text import display_text
from askport.edges.crew import growing_together, job_part, own_key
from askport.edges.crew.job_part import Membership
from askport.edges.crew.server import News, Server
from askport.edges.jobfile import JobFile

NEWEST = 2**62
"""Behind every push there will ever be: what is asked for behind it is who the crew is, and no lines."""
_MAX_NAME = 40


def clean_name(name: str) -> str:
    """Return a member's name as it is kept.

    Raises:
        BadInput: it is empty, too long, or has what cannot be shown.
    """
    plain = " ".join(name.split())
    if not plain or len(plain) > _MAX_NAME or display_text(plain, _MAX_NAME) != plain:
        raise BadInput(
            "'{name}' is not a name for a member: give 1 to {max_name} plain characters.",
            name=display_text(name, 60),
            max_name=_MAX_NAME,
        )
    return plain


def join(server: Server, job: JobFile, name: str) -> bytes:
    """Have a job file belong to a crew from now on, and return its member's key; nothing is carried yet.

    Raises:
        BadInput: the name cannot be one.
        Refused: it belongs to another crew, or somebody else has the name, or the database does not let this login in.
        MachineRefused: the connection was lost, or the file or the key cannot be written.
    """
    name, about = clean_name(name), server.news(NEWEST)
    if job.crew and job.crew.crew != about.crew:
        site = display_text(job.crew.site, 60)
        raise Refused(
            "This job belongs to the crew of {site} already: 'askport crew leave' has it leave that one.", site=site
        )
    if job.crew and job.crew.member and job.crew.member != name:
        raise Refused("This job belongs to the crew already, as {member}.", member=job.crew.member)
    key = own_key.make_key(about.crew, name)
    known = next((each for each in about.members if each.name == name), None)
    _require_free(known, key, name)
    if known is None:
        server.join(name, own_key.public_half(key))
    _belong(server, job, about, name)
    return key


def _require_free(known: seals.Member | None, key: bytes, name: str) -> None:
    if known and known.key != own_key.public_half(key):
        raise Refused("{name} is a member already, on another laptop: choose another name with --as.", name=name)
    if known and known.removed:
        raise Refused("{name} was taken out of this crew: choose another name with --as.", name=name)


def look_on(server: Server, job: JobFile) -> None:
    """Have a job file be a copy of what a crew has, which nobody writes."""
    _belong(server, job, server.news(NEWEST), "")


def _belong(server: Server, job: JobFile, about: News, name: str) -> None:
    pulled = job.crew.pulled if job.crew else 0
    epoch = job.crew.epoch if job.crew else about.epoch
    crew = Membership(about.crew, epoch, server.url, about.site, name, pulled)
    if job.crew is None:
        job.change(*job_part.making_shared(), *map(text, growing_together.INDEXES))
    kept = [job_part.keeping_membership(crew), job_part.remembering(about.crew)]
    kept += [*job_part.keeping_members(about.members), *job_part.accepting(about.members)]
    job.change(*kept)
    job.belong_to(crew)


def move(server: Server, job: JobFile) -> None:
    """Have the crew's database be found elsewhere from now on.

    Raises:
        BadInput: it is not the same crew's.
        MachineRefused: the connection was lost, or the file cannot be written.
    """
    about = server.news(NEWEST)
    if job.crew and about.crew != job.crew.crew:
        shown = display_text(server.url, 120)
        raise BadInput(
            "'{shown}' is the database of another crew, {site}: give its own.",
            shown=shown,
            site=display_text(about.site, 60),
        )
    if job.crew:
        crew = replace(job.crew, url=server.url)
        job.change(job_part.keeping_membership(crew))
        job.belong_to(crew)


def leave(job: JobFile) -> None:
    """Have a job file belong to no crew; all its lines stay."""
    job.change(*job_part.leaving())
    job.belong_to(None)


def deal(server: Server, job: JobFile) -> list[IPv4Address]:
    """Have the member hold a block of free addresses of each subnet, and return all that it holds.

    Raises:
        MachineRefused: the connection was lost, or the file cannot be written.
    """
    crew = job.crew
    if crew is None or not crew.member:
        return []
    dealt = server.in_hand().blocks
    plan = job.register.plan()
    used = {address for address, _, _ in job.register.left()}
    taken = used | {each.address for each in plan.devices if each.address}
    held = [address for address, member in dealt.items() if member == crew.member]
    wanted = dealing.to_deal(dealing.areas_of(plan), taken, held, dealt)
    got = server.deal(crew.member, wanted) if wanted else []
    block = sorted(each for each in {*held, *got} if each not in taken)
    with job.engine.connect() as connection:
        had = job_part.block_in(connection)
    if had != block:
        job.change(*job_part.keeping_block(block))
    return block
