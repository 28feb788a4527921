"""Run the command line: python -m pondel."""

from pondel.cli import main

if __name__ == "__main__":
    main()
