"""What leaves the program as a file: CSV and JSON of the register."""
