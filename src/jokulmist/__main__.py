"""``python -m jokulmist``."""

from jokulmist.command.main import main

main()
