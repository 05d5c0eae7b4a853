"""Run the command line as `python -m eptaro`."""

from eptaro.cli import main

if __name__ == "__main__":
    main()
