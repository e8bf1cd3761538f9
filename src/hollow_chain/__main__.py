"""Run the command line with ``python -m hollow_chain``."""

from hollow_chain.cli import main

if __name__ == "__main__":
    main()
