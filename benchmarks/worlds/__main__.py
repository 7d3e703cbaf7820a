"""``python -m benchmarks.worlds``."""

from benchmarks.worlds.report import main

if __name__ == "__main__":
    main()
