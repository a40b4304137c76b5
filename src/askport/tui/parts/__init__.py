"""What the screen of the job is made of beside its pictures: parts that it has, each with its keys."""
