"""``python -m tachys``."""

from tachys.cli.main import main

if __name__ == "__main__":
    main()
