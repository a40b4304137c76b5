"""The database where the job files of a crew meet, and the part of a job file that belongs to it."""
