"""Makes what comes from the commands themselves, in the environment that has them: manual pages and completion."""

from commands import write_completion, write_manual
from making import BUILD, emptied

if __name__ == "__main__":
    folder = emptied(BUILD / "from-commands")
    write_manual(folder / "man")
    (folder / "completion").mkdir()
    write_completion(folder / "completion", "@COMPLETE@")
