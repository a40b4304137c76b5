"""The stages of one device's way: each does one step of the job, and says what it came to."""
