"""The program: ``inchworm`` or ``python -m inchworm``."""

from __future__ import annotations

from inchworm.cli.main import main

__all__ = ["main"]

if __name__ == "__main__":
    main()
