"""``python -m tachys``."""

from tachys.entry import main

if __name__ == "__main__":
    main()
