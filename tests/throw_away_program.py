"""Ask Port with what is thrown away: a line for each of the tables."""

from askport.core.protocols import PROTOCOLS, Protocol

PROTOCOLS["shout"] = Protocol(
    name="shout", words="Shouting", ethertype=0x88B5, decoder="throw_away:decode",
    clues={"throw_away:Shouted": "throw_away:read"}, greets="whoever has ears", asks_in_frame="throw_away:who",
    way="throw_away:ENTRY",
)  # fmt: skip

from askport.bench import scenario, stand_in
from askport.cli.main import main
from askport.tui.actions import ACTIONS
from throw_away import with_ears
from throw_away_unit import UNIT
from throw_away_view import ACTION

if __name__ == "__main__":
    stand_in.StandIn.receive = with_ears()
    scenario.UNITS.append(UNIT)
    ACTIONS.append(ACTION)
    main()
