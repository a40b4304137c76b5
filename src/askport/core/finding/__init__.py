"""From frames to clues, from clues to beliefs, and the questions that bring more of both."""
