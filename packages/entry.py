"""Where the program starts that needs no Python: as itself, or as one of its own processes."""

from askport.edges.own_process import become

become()

from askport.cli.main import main  # noqa: E402 - a keeper loads none of it

main()
