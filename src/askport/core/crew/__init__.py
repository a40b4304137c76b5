"""A crew: several technicians on one site, whose job files meet in one database."""
