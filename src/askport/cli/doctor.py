"""``askport doctor``: what of this laptop can be used, what not and why, and the line that mends it."""

import typer

from askport.cli.saying import JsonOption, Status, put_json
from askport.core.phrases import phrase


def doctor(json: JsonOption = False) -> None:
    """Check what this laptop can do, and how to mend the rest.

    Nothing is changed. Exit status 1: the main job could not run.

    Example: sudo askport doctor
    """
    from askport import __version__
    from askport.edges.looking_over import look_over

    looks = list(look_over())
    missing = [each for each in looks if each.is_needed and each.is_well is False]
    if json:
        seen = [
            {"name": each.name, "well": each.is_well, "needed": each.is_needed, "says": each.says, "mend": each.mend}
            for each in looks
        ]
        put_json({"schema": "askport.doctor/1", "version": __version__, "can_work": not missing, "seen": seen})
    else:
        for each in looks:
            mark = {True: "✓", False: "✗", None: "·"}[each.is_well]
            print(f"{mark} {each.name:<10} {each.says}")
            if each.mend:
                print(f"  {'':<10} ▸ {each.mend}")
        print(phrase("The main job can run.") if not missing else phrase("The main job cannot run yet."))
    if missing:
        raise typer.Exit(Status.NO)
