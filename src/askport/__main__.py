"""``python -m askport`` is the command line."""

from askport.cli.main import main

if __name__ == "__main__":
    main()
