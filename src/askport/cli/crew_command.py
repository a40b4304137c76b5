"""``askport crew create|join|sync|status|members|remove|leave``: several technicians on one site."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from askport.cli.opened_jobs import OPENED, open_job
from askport.cli.saying import JsonOption, Status, put_json, say
from askport.core.crew.seals import as_member
from askport.core.errors import AskPortError, BadInput, MachineRefused, Refused
from askport.core.phrases import phrase
from askport.core.text import display_text
from askport.edges.crew.reaching import is_url

if TYPE_CHECKING:
    from askport.edges.crew.server import Server
    from askport.edges.crew.syncing import Synced
    from askport.edges.jobfile import JobFile

app = typer.Typer(help="Several technicians on one site, in one database.", no_args_is_help=False)
Url = Annotated[str, typer.Argument(metavar="URL", help="The database, as libpq names it; without a password.")]
JobOption = Annotated[Path, typer.Option("--job", help="The job file.")]
Where = Annotated[str, typer.Argument(metavar="JOB|URL", help="A job file of the crew, or its database.")]
WhereOption = Annotated[str, typer.Option("--job", metavar="JOB|URL", help="The same, as an option.")]


def _server(url: str) -> "Server":
    from askport.edges.crew.server import Server

    server = Server(url)
    OPENED.callback(server.close)
    return server


@app.command()
def create(
    url: Url,
    site: Annotated[str, typer.Option("--site", help="What the site is called.")] = "",
    filled_from: Annotated[
        Path | None, typer.Option("--from", metavar="JOB", help="Fill it again from a member's job file.")
    ] = None,
) -> None:
    """Make a crew's tables in a database, or update them.

    As the owner of the database. With --from, it is filled from a member's file.

    Example: askport crew create postgresql:///site --site "Hatchery"
    """
    from askport.edges.crew.founding import found

    filling = None
    if filled_from:
        from askport.edges.crew.refilling import filling_of

        job = open_job(filled_from)
        filling = filling_of(job)
        site = site or (job.crew.site if job.crew else "")
    made = found(url, site, filling=filling)
    was = {None: "Made", True: phrase("Brought up to date")}[None if made.was is None else True]
    print(phrase("{was}: the crew of {site}, {crew}.", was=was, site=display_text(made.site, 60), crew=made.crew))
    print(
        phrase(
            'Let somebody in, as the owner: GRANT "{member_role}" TO a_login; or to read only: "{office_role}".',
            member_role=made.member_role,
            office_role=made.office_role,
        )
    )


@app.command()
def join(
    url: Url,
    job: JobOption,
    name: Annotated[str, typer.Option("--as", metavar="NAME", help="What you are called; without, your login.")] = "",
) -> None:
    """Make a job file a member of a crew.

    What both have is exchanged at once. Exit status 1: something in the database is not believed.

    Example: askport crew join "postgresql://anna@server/site" --job site.askport
    """
    from askport.edges.crew import belonging, syncing
    from askport.edges.crew.own_key import public_half
    from askport.edges.crew.schema import LET_IN

    server, was_there = _server(url), job.exists()
    opened = open_job(job, writes=True, meets=False)
    try:
        key = belonging.join(server, opened, name or server.login())
    except AskPortError as error:
        if not was_there:
            job.unlink()
        if "permission denied" in error.message:
            raise Refused(f"{error.message} {LET_IN}") from None
        raise
    done = syncing.sync(server, opened, key)
    belonging.deal(server, opened)
    from askport.core.crew.seals import fingerprint

    member = opened.crew.member if opened.crew else ""
    site = display_text(opened.crew.site if opened.crew else "", 60)
    print(
        phrase(
            "{member} is a member of the crew of {site}. Key: {fingerprint}.",
            member=member,
            site=site,
            fingerprint=fingerprint(bytes.fromhex(public_half(key))),
        )
    )
    _tell(done)
    if done.wrong:
        raise typer.Exit(Status.NO)


@app.command()
def sync(
    job: Annotated[Path | None, typer.Argument(help="The job file.")] = None,
    job_option: Annotated[Path | None, typer.Option("--job", help="The same, as an option.")] = None,
    url: Annotated[str, typer.Option("--url", help="Where the crew's database is now, if it has moved.")] = "",
    json: JsonOption = False,
) -> None:
    """Exchange entries between a job file and its crew.

    Exit status 1: something in the database is not believed.

    Example: askport crew sync site.askport
    """
    from askport.edges.crew import belonging, syncing
    from askport.edges.crew.frames import carry_frames

    opened = open_job(_one_of(job, job_option), writes=True, meets=False)
    crew = _crew_of(opened)
    from askport.edges.crew.own_key import key_of

    server = _server(url or crew.url)
    if url:
        belonging.move(server, opened)
    done = syncing.sync(server, opened, key_of(crew.crew, crew.member) if crew.member else None)
    carried = carry_frames(server, opened)
    belonging.deal(server, opened)
    if json:
        put_json(
            {"schema": "askport.crew-sync/1", "pulled": done.pulled, "pushed": done.pushed, "frames": carried,
             "wrong": [str(each) for each in done.wrong], "notes": done.notes}
        )  # fmt: skip
    else:
        _tell(done)
    if done.wrong:
        raise typer.Exit(Status.NO)


def _one_of(*paths: Path | None) -> Path:
    named = [each for each in paths if each is not None]
    if len(named) != 1:
        raise BadInput("Give the job file: 'askport crew sync site.askport'.")
    return named[0]


def _crew_of(job: "JobFile") -> Any:
    if job.crew is None:
        raise BadInput(
            "'{path}' belongs to no crew: 'askport crew join' joins one.", path=display_text(str(job.path), 120)
        )
    return job.crew


def _tell(done: "Synced") -> None:
    print(phrase("{lines} came, {lines_2} went.", lines=_lines(done.pulled), lines_2=_lines(done.pushed)))
    for note in done.notes:
        say(note)
    for each in done.wrong:
        print(f"! {each}")


def _lines(count: int) -> str:
    return phrase("1 line") if count == 1 else f"{count} lines"


@app.command()
def status(where: Where = "", job: WhereOption = "", json: JsonOption = False) -> None:
    """Show how a job file and its crew stand to each other.

    Who is in it, what waits to be sent, who has what in progress, and what is not believed.

    Example: askport crew status site.askport
    """
    from askport.cli.crew_status import status_of

    document, sentences = status_of(_named(where, job))
    if json:
        put_json(document)
        return
    for each in sentences:
        print(each)


@app.command()
def members(
    where: Where = "",
    job: WhereOption = "",
    accept: Annotated[str, typer.Option("--accept", metavar="NAME", help="Accept this member.")] = "",
    json: JsonOption = False,
) -> None:
    """List a crew's members and the fingerprints of their keys.

    With --accept, say that the fingerprint of a new member was compared and is right.

    Example: askport crew members site.askport --accept carla
    """
    from askport.cli.crew_status import members_of

    named = _named(where, job)
    if accept:
        _accept(named, accept)
    found = members_of(named)
    strangers = set() if is_url(named) else {each.name for each in open_job(Path(named)).register.strangers()}
    if json:
        every = [
            {"name": each.name, "login": each.login, "key": each.key, "fingerprint": each.fingerprint,
             "removed": each.removed, "accepted": None if is_url(named) else each.name not in strangers}
            for each in found
        ]  # fmt: skip
        put_json({"schema": "askport.crew-members/1", "members": every})
        return
    for each in found:
        gone = "  " + phrase("taken out") if each.removed else ""
        print(f"{as_member(display_text(each.name, 40), strangers)}  {each.fingerprint}{gone}")


def _accept(named: str, name: str) -> None:
    """Write down that a member is right, for everybody who reads this crew."""
    from datetime import UTC, datetime

    from askport.core.register.corrections import accepted

    if is_url(named):
        raise BadInput("Whom you accept is written into a job file: give yours instead of the database.")
    opened = open_job(Path(named), writes=True)
    open_ones = {each.name: each for each in opened.register.strangers()}
    if name not in open_ones:
        shown = display_text(name, 40)
        raise BadInput(
            "'{shown}' is not a member who waits for that: 'askport crew members {named}' lists them.",
            shown=shown,
            named=named,
        )
    opened.append(accepted(open_ones[name], name), datetime.now(UTC))


def _named(where: str, job: str) -> str:
    if bool(where) == bool(job):
        raise BadInput("Give a job file of the crew, or the URL of its database.")
    return where or job


def _url_of(where: str) -> str:
    if is_url(where):
        return where
    url: str = _crew_of(open_job(Path(where))).url
    return url


@app.command()
def remove(
    first: Annotated[str, typer.Argument(metavar="JOB|URL", help="A job file of the crew, or its database.")],
    second: Annotated[str, typer.Argument(metavar="NAME", help="The member.")] = "",
    job: WhereOption = "",
) -> None:
    """Take a member out of a crew.

    As the owner of the database. The entries stay; the member can send no more.

    Example: askport crew remove postgresql:///site carla
    """
    where, name = (job, first) if job else (first, second)
    if not name:
        raise BadInput("Give the member: 'askport crew members' lists them.")
    server = _server(_url_of(where))
    from askport.edges.crew.belonging import NEWEST

    there = {each.name: each for each in server.news(NEWEST).members}
    if name not in there:
        raise BadInput(
            "'{name}' is not a member of this crew: 'askport crew members' lists them.", name=display_text(name, 40)
        )
    server.leave(name)
    print(phrase("{name} is removed. Its records stay; what it had in hand is free.", name=display_text(name, 40)))


@app.command()
def leave(
    job: Annotated[Path | None, typer.Argument(help="The job file.")] = None,
    job_option: Annotated[Path | None, typer.Option("--job", help="The same, as an option.")] = None,
) -> None:
    """Take a job file out of its crew.

    What it has is sent first, and stays in the file.

    Example: askport crew leave site.askport
    """
    from askport.edges.crew import belonging, syncing
    from askport.edges.crew.own_key import key_of

    opened = open_job(_one_of(job, job_option), writes=True, meets=False)
    crew = _crew_of(opened)
    try:
        server = _server(crew.url)
        if crew.member:
            _tell(syncing.sync(server, opened, key_of(crew.crew, crew.member)))
            server.leave(crew.member)
    except MachineRefused as error:
        say(
            "{message} The file leaves the crew all the same; ask the owner to remove {member}.",
            message=error.message,
            member=crew.member,
        )
    belonging.leave(opened)
    print(phrase("'{path}' belongs to no crew any more.", path=display_text(str(opened.path), 120)))
