"""Start the program: ``python -m umbrate``."""

from umbrate.cli.main import main

if __name__ == "__main__":
    main()
